import { Alert, Anchor, Group, SegmentedControl, Select, Stack, Text, TextInput, Title } from "@mantine/core";
import { IconFilter } from "@tabler/icons-react";
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { DataTable, type DataTableSortStatus } from "mantine-datatable";
import type { Lane } from "../api/client";
import { type LaneWords, type QueueWords, queue } from "../api/queue";
import { WhyStranded } from "../parts/fix";
import { Messages } from "../parts/messages";
import { PauseButton, Pauses } from "../parts/pause";
import { ReplyLine } from "../parts/reply";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets, plural } from "../parts/text";
import { WhyVerdict } from "../parts/verdict";
import { When } from "../parts/when";
import { ActionsView } from "./actions";
import { NodesView } from "./nodes";
import { ScheduleView } from "./schedule";

const views = [
	{ value: "lanes", label: "Lanes" },
	{ value: "messages", label: "Messages" },
	{ value: "actions", label: "Actions" },
	{ value: "schedule", label: "Schedule" },
	{ value: "nodes", label: "Nodes" },
];

/** The queue: lanes, messages, what people did, the schedule and the nodes. */
export function QueuePage() {
	const search = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	const view = search.view ?? "lanes";
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Group gap="md">
					<Title order={1} size="h3">
						Queue
					</Title>
					<SegmentedControl
						size="xs"
						aria-label="What of the queue"
						data={views}
						value={view}
						onChange={(v) => void navigate({ to: "/queue", search: { view: v === "lanes" ? undefined : v } as never })}
					/>
				</Group>
				<Stopper />
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
	return <PauseButton kind="delivery" what="all delivery" paused={paused} />;
}

function AllMessages() {
	const { view: _, find: __, by: ___, sort: ____, order: _____, ...words } = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	return (
		<Messages
			words={words as QueueWords}
			fixed={{}}
			onWords={(w) => void navigate({ to: "/queue", search: { view: "messages", ...w } as never, replace: true })}
		/>
	);
}

const sorts: Record<string, string> = {
	next_hop: "host",
	state: "state",
	total: "messages",
	bytes: "bytes",
	oldest_at: "oldest",
	next_attempt_at: "next",
};

const pageSize = 200;

function Lanes() {
	const search = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	const go = (change: Record<string, string | undefined>) =>
		void navigate({ to: "/queue", search: { ...search, ...change } as never, replace: true });
	const words: LaneWords = {
		find: search.find,
		state: search.state,
		route: search.route,
		cause: search.cause,
		sort: search.sort,
		order: search.order,
	};
	const lanes = useInfiniteQuery({
		queryKey: ["lanes", words],
		queryFn: ({ pageParam }) => queue.lanes(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
		placeholderData: keepPreviousData,
	});
	const first = lanes.data?.pages[0];
	if (!lanes.data || !first) {
		return lanes.error ? <Failed error={lanes.error} /> : <Loading what="the lanes" />;
	}
	const items = lanes.data.pages.flatMap((p) => p.items);
	const filtered = Boolean(search.find || search.state || search.route || search.cause);
	const accessor = Object.entries(sorts).find(([, v]) => v === (search.sort ?? "messages"))?.[0] ?? "total";
	const down = ["messages", "bytes"].includes(search.sort ?? "messages")
		? search.order !== "asc"
		: search.order === "desc";
	return (
		<>
			<Pauses pauses={first.pauses} />
			{first.verdict.title && (
				<Alert color={first.verdict.whose === "ours" ? "buoy" : "brass"} title={first.verdict.title} py={8}>
					{first.verdict.next}
					<WhyVerdict why={first.verdict.why} />
				</Alert>
			)}
			<Group gap="xs" justify="space-between">
				<Group gap="xs">
					<TextInput
						size="xs"
						w={260}
						placeholder="Host, route, state or cause"
						aria-label="Show lanes by host, route, state or cause"
						leftSection={<IconFilter size={14} />}
						value={search.find ?? ""}
						onChange={(e) => go({ find: e.currentTarget.value || undefined })}
					/>
					<Select
						size="xs"
						w={130}
						aria-label="State of lanes"
						placeholder="Any state"
						clearable
						data={["moving", "paused", "resting", "stranded"]}
						value={search.state ?? null}
						onChange={(v) => go({ state: v ?? undefined })}
					/>
					<Select
						size="xs"
						w={150}
						aria-label="Sum up by"
						placeholder="One line a lane"
						clearable
						data={[
							{ value: "route", label: "Sum up by route" },
							{ value: "host", label: "Sum up by host" },
							{ value: "cause", label: "Sum up by cause" },
							{ value: "state", label: "Sum up by state" },
						]}
						value={search.by ?? null}
						onChange={(v) => go({ by: v ?? undefined })}
					/>
				</Group>
				<Text size="sm" c="dimmed">
					{plural(first.total, "lane", "lanes")} {filtered ? "match" : "with mail waiting"}
				</Text>
			</Group>
			{search.by ? (
				<Groups by={search.by} />
			) : (
				<LaneTable
					items={items}
					filtered={filtered}
					fetching={lanes.isFetchingNextPage}
					onBottom={() => lanes.hasNextPage && void lanes.fetchNextPage()}
					sort={{ columnAccessor: accessor, direction: down ? "desc" : "asc" }}
					onSort={(s) => go({ sort: sorts[s.columnAccessor as string], order: s.direction })}
				/>
			)}
		</>
	);
}

function Groups({ by }: { by: string }) {
	const groups = useQuery({ queryKey: ["groups", by], queryFn: () => queue.groups(by) });
	if (!groups.data) {
		return groups.error ? <Failed error={groups.error} /> : <Loading what="the lanes" />;
	}
	const word = by === "host" ? "find" : by;
	return (
		<div className="surface">
			<DataTable
				idAccessor="by"
				records={groups.data.items}
				verticalSpacing={6}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				minHeight={120}
				noRecordsText="Nothing waits"
				columns={[
					{
						accessor: "by",
						title: by.charAt(0).toUpperCase() + by.slice(1),
						render: (g) => (
							<Anchor component={Link} to="/queue" search={{ [word]: g.by || undefined } as never} inherit>
								{g.by || "no trouble so far"}
							</Anchor>
						),
					},
					{ accessor: "lanes", textAlign: "right", render: (g) => count(g.lanes) },
					{ accessor: "troubled", title: "In trouble", textAlign: "right", render: (g) => count(g.troubled) },
					{ accessor: "messages", textAlign: "right", render: (g) => count(g.messages) },
					{ accessor: "bytes", title: "Size", textAlign: "right", render: (g) => octets(g.bytes) },
					{ accessor: "oldest_at", title: "Oldest", render: (g) => <When time={g.oldest_at} /> },
				]}
			/>
		</div>
	);
}

function LaneTable({
	items,
	filtered,
	fetching,
	onBottom,
	sort,
	onSort,
}: {
	items: Lane[];
	filtered: boolean;
	fetching: boolean;
	onBottom: () => void;
	sort: DataTableSortStatus<Lane>;
	onSort: (s: DataTableSortStatus<Lane>) => void;
}) {
	const navigate = useNavigate();
	if (items.length === 0) {
		return (
			<div className="surface">
				<Nothing title={filtered ? "No lane matches" : "Nothing waits"}>
					{filtered ? "Take the filter away to see all lanes." : "Every message has left or has been delivered."}
				</Nothing>
			</div>
		);
	}
	return (
		<div className="surface">
			<DataTable
				records={items}
				sortStatus={sort}
				onSortStatusChange={onSort}
				verticalSpacing={6}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				minHeight={120}
				height={items.length > 15 ? "calc(100vh - 230px)" : undefined}
				fetching={fetching}
				onScrollToBottom={onBottom}
				onRowClick={({ record }) => void navigate({ to: "/queue/$lane", params: { lane: record.id } as never })}
				columns={[
					{
						accessor: "next_hop",
						title: "Next hop",
						sortable: true,
						render: (l) => (
							<Anchor component={Link} to="/queue/$lane" params={{ lane: l.id } as never} inherit>
								{l.next_hop}
							</Anchor>
						),
					},
					{ accessor: "route", title: "Route", noWrap: true },
					{ accessor: "state", title: "State", sortable: true, render: (l) => <State state={l.state} /> },
					{ accessor: "waiting", title: "Waiting", textAlign: "right", render: (l) => count(l.waiting) },
					{ accessor: "deferred", title: "Deferred", textAlign: "right", render: (l) => count(l.deferred) },
					{ accessor: "held", title: "Held", textAlign: "right", render: (l) => count(l.held) },
					{
						accessor: "total",
						title: "All",
						textAlign: "right",
						sortable: true,
						render: (l) => count(l.waiting + l.deferred + l.held),
					},
					{ accessor: "bytes", title: "Size", textAlign: "right", sortable: true, render: (l) => octets(l.bytes) },
					{ accessor: "oldest_at", title: "Oldest", sortable: true, render: (l) => <When time={l.oldest_at} /> },
					{
						accessor: "next_attempt_at",
						title: "Next attempt",
						sortable: true,
						render: (l) => (l.state === "paused" ? "paused" : <When due time={l.next_attempt_at} />),
					},
					{
						accessor: "last_reply",
						title: "Last reply",
						width: "30%",
						render: (l) =>
							l.state === "stranded" ? (
								<WhyStranded lane={l} />
							) : l.state === "paused" ? (
								l.why
							) : (
								<ReplyLine reply={l.last_reply} />
							),
					},
				]}
			/>
		</div>
	);
}
