import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Group, SegmentedControl, Select, Stack, Text } from "@mantine/core";
import { IconFilter } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useMemo } from "react";
import type { Lane } from "../api/client";
import { type LaneGroup, type LaneWords, type QueueWords, queue } from "../api/queue";
import { AgeStrip } from "../parts/ages";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { FilterText } from "../parts/filter";
import { WhyStranded } from "../parts/fix";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { useBounds } from "../parts/may";
import { Messages } from "../parts/messages";
import { usePages, whole } from "../parts/pages";
import { PauseButton, Pauses } from "../parts/pause";
import { ReplyLine, replyText } from "../parts/reply";
import { RowTo } from "../parts/row-to";
import { State } from "../parts/state";
import { Nothing } from "../parts/states";
import { count, octets, plural } from "../parts/text";
import { WhyVerdict } from "../parts/verdict";
import { Views } from "../parts/views";
import { When } from "../parts/when";
import { ActionsView } from "./actions";
import { NodesView } from "./nodes";
import { ScheduleView } from "./schedule";

const views = [
	{ value: "lanes", label: t`Lanes` },
	{ value: "messages", label: t`Messages` },
	{ value: "actions", label: t`Actions` },
	{ value: "schedule", label: t`Schedule` },
	{ value: "nodes", label: t`Nodes` },
];

/** The queue: lanes, messages, what people did, the schedule and the nodes. */
export function QueuePage() {
	const search = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	const view = search.view ?? "lanes";
	if (useBounds().length > 0) {
		// lanes, pauses and nodes are of the whole server
		return (
			<Stack gap="sm">
				<Heading>
					<Trans>Queue</Trans>
				</Heading>
				<AllMessages />
			</Stack>
		);
	}
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Group gap="md">
					<Heading>
						<Trans>Queue</Trans>
					</Heading>
					<SegmentedControl
						size="xs"
						aria-label={t`What of the queue`}
						data={views}
						value={view}
						onChange={(v) => void navigate({ to: "/queue", search: { view: v === "lanes" ? undefined : v } })}
					/>
				</Group>
				<Group gap="xs">
					<Views />
					<Stopper />
				</Group>
			</Group>
			{view === "lanes" && <Lanes />}
			{view === "messages" && <AllMessages />}
			{view === "actions" && <ActionsView />}
			{view === "schedule" && <ScheduleView />}
			{view === "nodes" && <NodesView />}
		</Stack>
	);
}

function Stopper() {
	const pauses = useQuery({ queryKey: ["pauses"], queryFn: queue.pauses });
	const paused = (pauses.data?.items ?? []).some((p) => p.kind === "delivery");
	return <PauseButton kind="delivery" what={t`all delivery`} paused={paused} />;
}

function AllMessages() {
	const { view: _, find: __, by: ___, sort: ____, order: _____, ...words } = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	return (
		<Messages
			words={words as QueueWords}
			fixed={{}}
			onWords={(w) => void navigate({ to: "/queue", search: { view: "messages", ...w }, replace: true })}
		/>
	);
}

function Lanes() {
	const search = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	const go = (change: Record<string, string | undefined>) =>
		void navigate({ to: "/queue", search: { ...search, ...change }, replace: true });
	const words: LaneWords = {
		find: search.find,
		state: search.state,
		route: search.route,
		cause: search.cause,
		sort: search.sort,
		order: search.order,
	};
	const pages = usePages(["lanes", words], (after, limit) => queue.lanes(words, after, limit), { rowKey: laneKey });
	const first = pages.first;
	const filtered = Boolean(search.find || search.state || search.route || search.cause);
	const by = search.sort ?? "messages";
	const down = ["messages", "bytes"].includes(by) ? search.order !== "asc" : search.order === "desc";
	return (
		<>
			<Pauses pauses={first?.pauses ?? []} />
			{first?.verdict.title && (
				<Alert color={first.verdict.whose === "ours" ? "buoy" : "brass"} title={first.verdict.title} py={8}>
					{first.verdict.next}
					<WhyVerdict why={first.verdict.why} />
				</Alert>
			)}
			<Group gap="xs" justify="space-between">
				<Group gap="xs">
					<FilterText
						w={260}
						label={t`Host, route, state or cause`}
						icon={<IconFilter size={14} />}
						value={search.find}
						onChange={(find) => go({ find })}
					/>
					<Select
						size="xs"
						w={130}
						aria-label={t`State of lanes`}
						placeholder={t`Any state`}
						clearable
						data={["moving", "paused", "resting", "stranded", "parked"]}
						value={search.state ?? null}
						onChange={(v) => go({ state: v ?? undefined })}
					/>
					<Select
						size="xs"
						w={150}
						aria-label={t`Sum up by`}
						placeholder={t`One line a lane`}
						clearable
						data={[
							{ value: "route", label: t`Sum up by route` },
							{ value: "host", label: t`Sum up by host` },
							{ value: "cause", label: t`Sum up by cause` },
							{ value: "state", label: t`Sum up by state` },
						]}
						value={search.by ?? null}
						onChange={(v) => go({ by: v ?? undefined })}
					/>
				</Group>
				<Text size="sm" c="dimmed">
					{first && plural(first.total, t`lane`, t`lanes`)} {first && (filtered ? t`match` : t`with mail waiting`)}
				</Text>
			</Group>
			{search.by ? (
				<Groups by={search.by} />
			) : (
				<List
					name="lanes"
					label={t`Lanes`}
					words={[t`lane`, t`lanes`]}
					columns={laneColumns}
					pages={pages}
					rowKey={laneKey}
					opens={(l) => ({ to: "/queue/$lane", params: { lane: l.id } })}
					sort={{ by, down }}
					onSort={(sort, d) => go({ sort, order: d ? "desc" : "asc" })}
					above={240}
					foot={<CSV path="lanes.csv" words={words} file="lanes.csv" />}
					empty={
						<Nothing title={filtered ? t`No lane matches` : t`Nothing waits`}>
							{filtered ? t`Take the filter away to see all lanes.` : t`Every message has left or has been delivered.`}
						</Nothing>
					}
				/>
			)}
		</>
	);
}

function Groups({ by }: { by: string }) {
	const groups = useQuery({ queryKey: ["groups", by], queryFn: () => queue.groups(by) });
	const word = by === "host" ? "find" : by;
	const columns = useMemo((): Column<LaneGroup>[] => {
		const name = (g: LaneGroup) => g.by || t`no trouble so far`;
		return [
			{
				key: "by",
				title: by.charAt(0).toUpperCase() + by.slice(1),
				width: 200,
				grow: 1,
				text: name,
				cell: (g) =>
					g.by ? (
						<RowTo to="/queue" search={{ [word]: g.by }}>
							{name(g)}
						</RowTo>
					) : (
						name(g)
					),
			},
			{ key: "lanes", title: t`Lanes`, width: 90, right: true, cell: (g) => count(g.lanes) },
			{ key: "troubled", title: t`In trouble`, width: 100, right: true, cell: (g) => count(g.troubled) },
			{ key: "messages", title: t`Messages`, width: 100, right: true, cell: (g) => count(g.messages) },
			{ key: "bytes", title: t`Size`, width: 90, right: true, cell: (g) => octets(g.bytes) },
			{ key: "oldest_at", title: t`Oldest`, width: 110, cell: (g) => <When time={g.oldest_at} /> },
		];
	}, [by, word]);
	return (
		<List
			name={`lanes-by-${by}`}
			label={t`Lanes by ${by}`}
			words={[t`line`, t`lines`]}
			columns={columns}
			pages={whole(groups)}
			rowKey={(g) => g.by}
			opens={(g) => ({ to: "/queue", search: { [word]: g.by || undefined } })}
			above={240}
			empty={<Nothing title={t`Nothing waits`} />}
		/>
	);
}

const laneKey = (l: Lane) => l.id;

const laneColumns: Column<Lane>[] = [
	{
		key: "next_hop",
		title: t`Next hop`,
		width: 150,
		grow: 2,
		sort: "host",
		text: (l) => l.next_hop,
		cell: (l) => (
			<RowTo to="/queue/$lane" params={{ lane: l.id }}>
				{l.next_hop}
			</RowTo>
		),
	},
	{ key: "route", title: t`Route`, width: 105, grow: 1, text: (l) => l.route, cell: (l) => l.route },
	{ key: "state", title: t`State`, width: 100, sort: "state", cell: (l) => <State state={l.state} /> },
	{ key: "waiting", title: t`Waiting`, width: 75, right: true, cell: (l) => count(l.waiting) },
	{ key: "deferred", title: t`Deferred`, width: 80, right: true, cell: (l) => count(l.deferred) },
	{ key: "held", title: t`Held`, width: 60, right: true, cell: (l) => count(l.held) },
	{
		key: "total",
		title: t`All`,
		width: 65,
		right: true,
		sort: "messages",
		down: true,
		cell: (l) => count(l.waiting + l.deferred + l.held),
	},
	{ key: "bytes", title: t`Size`, width: 80, right: true, sort: "bytes", down: true, cell: (l) => octets(l.bytes) },
	{ key: "oldest_at", title: t`Oldest`, width: 105, sort: "oldest", cell: (l) => <When time={l.oldest_at} /> },
	{
		key: "ages",
		title: t`Ages`,
		width: 80,
		cell: (l) => <AgeStrip lane={l.id} all={l.waiting + l.deferred + l.held} />,
	},
	{
		key: "next_attempt_at",
		title: t`Next attempt`,
		width: 112,
		sort: "next",
		cell: (l) => (l.state === "paused" ? "paused" : <When due time={l.next_attempt_at} />),
	},
	{
		key: "last_reply",
		title: t`Last reply`,
		width: 160,
		grow: 5,
		text: (l) => replyText(l.last_reply),
		cell: (l) =>
			l.state === "stranded" ? (
				<WhyStranded lane={l} />
			) : l.state === "paused" || l.state === "parked" ? (
				l.why
			) : (
				<ReplyLine reply={l.last_reply} />
			),
	},
	{ key: "cause", title: t`Cause`, width: 140, extra: true, cell: (l) => l.cause },
];
