import { Anchor, Button, Collapse, Group, Select, Text } from "@mantine/core";
import { useDebouncedCallback, useDisclosure } from "@mantine/hooks";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { useState } from "react";
import type { QueueItem } from "../api/client";
import { type QueueWords, queue } from "../api/queue";
import { Actions } from "./act";
import { FilterText } from "./filter";
import { ReplyLine } from "./reply";
import { State } from "./state";
import { Failed, Loading, Nothing } from "./states";
import { octets, plural, shown, soft } from "./text";
import { When } from "./when";

const pageSize = 100;

const more: { word: keyof QueueWords; label: string }[] = [
	{ word: "older", label: "Older than (4h)" },
	{ word: "newer", label: "Newer than (1h)" },
	{ word: "larger", label: "Larger than (1 MB)" },
	{ word: "smaller", label: "Smaller than" },
	{ word: "attempts", label: "Tried at least" },
	{ word: "client", label: "Client address" },
	{ word: "account", label: "Account" },
	{ word: "route", label: "Route" },
	{ word: "action", label: "Action number" },
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
	const [chosen, setChosen] = useState<QueueItem[]>([]);
	const all = { ...words, ...fixed };
	const filtered = Object.values(words).some((v) => v !== undefined);
	return (
		<>
			<Group justify="space-between" align="start">
				<Filter words={words} set={(change) => onWords({ ...words, ...change })} />
				<Group gap="xs">
					{chosen.length > 0 && (
						<Actions
							words={{ delivery: chosen.map((q) => q.delivery.id) }}
							what={plural(chosen.length, "chosen message", "chosen messages")}
						/>
					)}
					<Actions
						words={all}
						what={filtered ? "All that match" : fixed.lane ? "All in this lane" : "Everything that waits"}
					/>
				</Group>
			</Group>
			<Table words={all} chosen={chosen} onChoose={setChosen} showHop={!fixed.lane} />
		</>
	);
}

function Filter({ words, set }: { words: QueueWords; set: (change: QueueWords) => void }) {
	const [open, { toggle }] = useDisclosure(more.some((m) => words[m.word] !== undefined));
	const later = useDebouncedCallback(set, 300);
	return (
		<div>
			<Group gap="xs">
				<Select
					size="xs"
					aria-label="State"
					placeholder="Any state"
					clearable
					w={120}
					data={["waiting", "deferred", "held"]}
					value={words.state ?? null}
					onChange={(v) => set({ state: (v ?? undefined) as QueueWords["state"] })}
				/>
				<FilterText label="Sender" value={words.sender} onChange={(sender) => later({ sender })} />
				<FilterText label="Recipient" value={words.recipient} onChange={(recipient) => later({ recipient })} />
				<FilterText label="Recipient's domain" value={words.domain} onChange={(domain) => later({ domain })} />
				<FilterText label="Subject" value={words.subject} onChange={(subject) => later({ subject })} />
				<FilterText label="Cause" value={words.cause} onChange={(cause) => later({ cause })} />
				<Button size="xs" variant="subtle" onClick={toggle} aria-expanded={open}>
					{open ? "Fewer" : "More"}
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
								later({ [m.word]: v && (m.word === "attempts" || m.word === "action") ? Number(v) || undefined : v })
							}
						/>
					))}
				</Group>
			</Collapse>
		</div>
	);
}

function Table({
	words,
	chosen,
	onChoose,
	showHop,
}: {
	words: QueueWords;
	chosen: QueueItem[];
	onChoose: (items: QueueItem[]) => void;
	showHop: boolean;
}) {
	const navigate = useNavigate();
	const messages = useInfiniteQuery({
		queryKey: ["messages", words],
		queryFn: ({ pageParam }) => queue.messages(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!messages.data) {
		return messages.error ? <Failed error={messages.error} /> : <Loading what="the messages" />;
	}
	const items = messages.data.pages.flatMap((p) => p.items);
	if (items.length === 0) {
		return (
			<div className="surface">
				<Nothing title="No messages">Nothing that matches waits now.</Nothing>
			</div>
		);
	}
	return (
		<div className="surface">
			<DataTable<QueueItem>
				idAccessor="delivery.id"
				records={items}
				verticalSpacing={5}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				height={items.length > 12 ? "calc(100vh - 250px)" : undefined}
				minHeight={120}
				fetching={messages.isFetchingNextPage}
				onScrollToBottom={() => messages.hasNextPage && void messages.fetchNextPage()}
				selectedRecords={chosen}
				onSelectedRecordsChange={onChoose}
				selectionColumnClassName="choose"
				getRecordSelectionCheckboxProps={(q) => ({ "aria-label": `Choose ${q.delivery.id}` })}
				allRecordsSelectionCheckboxProps={{ "aria-label": "Choose all that are shown" }}
				onRowClick={({ record }) =>
					void navigate({ to: "/messages/$id", params: { id: record.delivery.message_id } as never })
				}
				columns={[
					{ accessor: "received_at", title: "Received", width: 105, render: (q) => <When time={q.received_at} /> },
					{ accessor: "delivery.state", title: "State", width: 100, render: (q) => <State state={q.delivery.state} /> },
					{
						accessor: "subject",
						title: "Subject",
						render: (q) => (
							<Anchor component={Link} to="/messages/$id" params={{ id: q.delivery.message_id } as never} inherit>
								{q.subject || "(no subject)"}
							</Anchor>
						),
					},
					{
						accessor: "sender",
						title: "From",
						width: 150,
						render: (q) => <span className="mono">{soft(shown(q.sender))}</span>,
					},
					{
						accessor: "delivery.recipient",
						title: "To",
						width: 160,
						render: (q) => (
							<>
								<span className="mono">{soft(q.delivery.recipient)}</span>
								{(q.delivery.detour || (showHop && q.delivery.route === "detour")) && (
									<Text size="xs" c="dimmed">
										sent by {q.delivery.next_hop}, {q.delivery.detour === "once" ? "once" : "until it is gone"}
									</Text>
								)}
							</>
						),
					},
					{ accessor: "size", title: "Size", textAlign: "right", width: 70, render: (q) => octets(q.size) },
					{ accessor: "delivery.attempts", title: "Attempts", textAlign: "right", width: 92 },
					{
						accessor: "delivery.next_attempt_at",
						title: "Next",
						width: 80,
						render: (q) =>
							q.delivery.state === "held" ? "held" : <When due time={q.delivery.next_attempt_at} none="–" />,
					},
					{
						accessor: "delivery.warned_at",
						title: "Delay notice",
						width: 118,
						render: (q) => <When time={q.delivery.warned_at} none="no" />,
					},
					{
						accessor: "delivery.expires_at",
						title: "Expires",
						width: 100,
						render: (q) => <When time={q.delivery.expires_at} />,
					},
					{
						accessor: "delivery.last_reply",
						title: "Last reply",
						render: (q) => <ReplyLine reply={q.delivery.last_reply} />,
					},
				]}
			/>
		</div>
	);
}
