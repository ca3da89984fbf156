import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Collapse, Group, Select, Text } from "@mantine/core";
import { useDisclosure } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { QueueItem } from "../api/client";
import { type QueueWords, queue } from "../api/queue";
import { Actions, ActionsByKey } from "./act";
import type { Column } from "./columns";
import { CSV } from "./csv";
import { FilterText } from "./filter";
import { type Choice, List, none } from "./list";
import { useMayWork } from "./may";
import { usePages } from "./pages";
import { ReplyLine, replyText } from "./reply";
import { RowTo } from "./row-to";
import { State } from "./state";
import { Nothing } from "./states";
import { octets, plural, shown } from "./text";
import { When } from "./when";

const more: { word: keyof QueueWords; label: string }[] = [
	{ word: "older", label: t`Older than (4h)` },
	{ word: "newer", label: t`Newer than (1h)` },
	{ word: "larger", label: t`Larger than (1 MB)` },
	{ word: "smaller", label: t`Smaller than` },
	{ word: "attempts", label: t`Tried at least` },
	{ word: "client", label: t`Client address` },
	{ word: "account", label: t`Account` },
	{ word: "route", label: t`Route` },
	{ word: "action", label: t`Action number` },
];

/** Messages in the queue that some words select, with what can be done with them. */
export function Messages({
	words,
	fixed,
	onWords,
}: {
	words: QueueWords;
	/** Words of the page itself, such as its lane. */
	fixed: QueueWords;
	onWords: (words: QueueWords) => void;
}) {
	const all = { ...words, ...fixed };
	const name = JSON.stringify(all);
	// What was chosen was chosen among what was shown: another filter ends the choice.
	const [chosen, setChosen] = useState<{ name: string; choice: Choice }>({ name, choice: none });
	const choice = chosen.name === name ? chosen.choice : none;
	const [acting, setActing] = useState(false);
	const mayAct = useMayWork();
	// How many all are is counted when somebody wants all: it is as much work as they are many.
	const matching = useQuery({
		queryKey: ["would", "drop", all],
		queryFn: () => queue.act({ verb: "drop", filter: all, all: true, dry_run: true }, () => {}), // only counts
		refetchInterval: false,
		enabled: choice.all && mayAct,
	});
	const filtered = Object.values(words).some((v) => v !== undefined);
	return (
		<>
			<Group justify="space-between" align="start">
				<Filter words={words} set={(change) => onWords({ ...words, ...change })} />
				<Group gap="xs">
					{!choice.all && choice.keys.size > 0 && (
						<Actions
							words={{ delivery: [...choice.keys] }}
							what={plural(choice.keys.size, t`chosen message`, t`chosen messages`)}
						/>
					)}
					<Actions
						words={all}
						what={filtered ? t`All that match` : fixed.lane ? t`All in this lane` : t`Everything that waits`}
					/>
				</Group>
			</Group>
			{acting && (
				<ActionsByKey
					words={choice.all ? all : { delivery: [...choice.keys] }}
					what={choice.all ? t`All that match` : plural(choice.keys.size, t`chosen message`, t`chosen messages`)}
					onClose={() => setActing(false)}
				/>
			)}
			<Table
				words={all}
				choice={choice}
				total={choice.all ? matching.data?.matched : undefined}
				onChoice={(choice) => setChosen({ name, choice })}
				showHop={!fixed.lane}
				onAct={() => setActing(true)}
			/>
		</>
	);
}

function Filter({ words, set }: { words: QueueWords; set: (change: QueueWords) => void }) {
	const [open, { toggle }] = useDisclosure(more.some((m) => words[m.word] !== undefined));
	return (
		<div>
			<Group gap="xs">
				<Select
					size="xs"
					aria-label={t`State`}
					placeholder={t`Any state`}
					clearable
					w={120}
					data={["waiting", "deferred", "held"]}
					value={words.state ?? null}
					onChange={(v) => set({ state: (v ?? undefined) as QueueWords["state"] })}
				/>
				<FilterText label={t`Sender`} value={words.sender} onChange={(sender) => set({ sender })} />
				<FilterText label={t`Recipient`} value={words.recipient} onChange={(recipient) => set({ recipient })} />
				<FilterText label={t`Recipient's domain`} value={words.domain} onChange={(domain) => set({ domain })} />
				<FilterText label={t`Subject`} value={words.subject} onChange={(subject) => set({ subject })} />
				<FilterText label={t`Cause`} value={words.cause} onChange={(cause) => set({ cause })} />
				<Button size="xs" variant="subtle" onClick={toggle} aria-expanded={open}>
					{open ? t`Fewer` : t`More`}
				</Button>
			</Group>
			<Collapse expanded={open}>
				<Group gap="xs" mt="xs">
					{more.map((m) => (
						<FilterText
							key={m.word}
							label={m.label}
							value={words[m.word] === undefined ? undefined : String(words[m.word])}
							onChange={(v) =>
								set({ [m.word]: v && (m.word === "attempts" || m.word === "action") ? Number(v) || undefined : v })
							}
						/>
					))}
				</Group>
			</Collapse>
		</div>
	);
}

const rowKey = (q: QueueItem) => q.delivery.id;

const columnsOf = (showHop: boolean): Column<QueueItem>[] => [
	{ key: "received_at", title: t`Received`, width: 112, cell: (q) => <When time={q.received_at} /> },
	{ key: "state", title: t`State`, width: 96, cell: (q) => <State state={q.delivery.state} /> },
	{
		key: "subject",
		title: t`Subject`,
		width: 140,
		grow: 3,
		text: (q) => q.subject,
		cell: (q) => (
			<RowTo to="/messages/$id" params={{ id: q.delivery.message_id }}>
				{q.subject || t`(no subject)`}
			</RowTo>
		),
	},
	{
		key: "sender",
		title: t`From`,
		width: 140,
		grow: 2,
		text: (q) => shown(q.sender),
		cell: (q) => <span className="mono">{shown(q.sender)}</span>,
	},
	{
		key: "recipient",
		title: t`To`,
		width: 150,
		grow: 2,
		text: (q) => q.delivery.recipient,
		cell: (q) => (
			<>
				<span className="mono">{q.delivery.recipient}</span>
				{(q.delivery.detour || (showHop && q.delivery.route === "detour")) && (
					<Text span size="xs" c="dimmed">
						{" "}
						<Trans>
							sent by {q.delivery.next_hop}, {q.delivery.detour === "once" ? t`once` : t`until it is gone`}
						</Trans>
					</Text>
				)}
			</>
		),
	},
	{ key: "size", title: t`Size`, width: 70, right: true, cell: (q) => octets(q.size) },
	{ key: "attempts", title: t`Attempts`, width: 78, right: true, cell: (q) => q.delivery.attempts },
	{
		key: "next_attempt_at",
		title: t`Next`,
		width: 92,
		cell: (q) => (q.delivery.state === "held" ? "held" : <When due time={q.delivery.next_attempt_at} />),
	},
	{
		key: "warned_at",
		title: t`Delay notice`,
		width: 105,
		extra: true,
		cell: (q) => <When time={q.delivery.warned_at} none={t`no`} />,
	},
	{ key: "expires_at", title: t`Expires`, width: 105, cell: (q) => <When time={q.delivery.expires_at} /> },
	{
		key: "last_reply",
		title: t`Last reply`,
		width: 150,
		grow: 4,
		text: (q) => replyText(q.delivery.last_reply),
		cell: (q) => <ReplyLine reply={q.delivery.last_reply} />,
	},
	{
		key: "next_hop",
		title: t`Next hop`,
		width: 150,
		extra: true,
		text: (q) => q.delivery.next_hop,
		cell: (q) => q.delivery.next_hop,
	},
	{ key: "route", title: t`Route`, width: 110, extra: true, cell: (q) => q.delivery.route },
	{
		key: "id",
		title: t`Id`,
		width: 140,
		extra: true,
		text: (q) => q.delivery.id,
		cell: (q) => <span className="mono">{q.delivery.id}</span>,
	},
];

const inLane = columnsOf(false);
const inAll = columnsOf(true);

function Table({
	words,
	choice,
	onChoice,
	showHop,
	onAct,
	total,
}: {
	onAct: () => void;
	total?: number;
	words: QueueWords;
	choice: Choice;
	onChoice: (c: Choice) => void;
	showHop: boolean;
}) {
	const pages = usePages(["messages", words], (after, limit) => queue.messages(words, after, limit), { rowKey });
	return (
		<List
			name={showHop ? "queue" : "lane"}
			label={t`Messages that wait`}
			words={[t`message`, t`messages`]}
			columns={showHop ? inAll : inLane}
			pages={pages}
			rowKey={rowKey}
			opens={(q) => ({ to: "/messages/$id", params: { id: q.delivery.message_id } })}
			choice={choice}
			onChoice={onChoice}
			onAct={onAct}
			total={total}
			above={showHop ? 200 : 210}
			foot={<CSV path="queue.csv" words={words} file="queue.csv" />}
			empty={
				<Nothing title={t`No messages`}>
					<Trans>Nothing that matches waits now.</Trans>
				</Nothing>
			}
		/>
	);
}
