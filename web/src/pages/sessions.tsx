import { Anchor, Group, Select, Text } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { type Session, type SessionWords, tracing } from "../api/trace";
import { FilterText } from "../parts/filter";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { Watches } from "../parts/watch";
import { When } from "../parts/when";

const pageSize = 100;

/** SMTP and LMTP sessions in and out, newest first; open ones on top. */
export function SessionsView() {
	const search = useSearch({ from: "/trace" });
	const navigate = useNavigate();
	const set = useDebouncedCallback((change: SessionWords) => {
		void navigate({ to: "/trace", search: { ...search, ...change } as never, replace: true });
	}, 250);
	const words: SessionWords = {
		direction: search.direction,
		peer: search.peer,
		outcome: search.outcome,
		longer: search.longer,
		listener: search.listener,
		route: search.route,
		sort: search.sort,
		archive: search.archive,
	};
	const sessions = useInfiniteQuery({
		queryKey: ["sessions", words],
		queryFn: ({ pageParam }) => tracing.sessions(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	const items = sessions.data?.pages.flatMap((p) => p.items) ?? [];
	return (
		<>
			<Group gap="xs">
				<Select
					size="xs"
					w={120}
					aria-label="Direction"
					placeholder="In and out"
					clearable
					data={["in", "out"]}
					value={search.direction ?? null}
					onChange={(v) => set({ direction: v ?? undefined })}
				/>
				<FilterText label="Peer: address or name" value={search.peer} onChange={(peer) => set({ peer })} />
				<Select
					size="xs"
					w={150}
					aria-label="Outcome"
					placeholder="Any outcome"
					clearable
					data={["trouble", "passed", "partly", "refused", "idle", "broken", "open"]}
					value={search.outcome ?? null}
					onChange={(v) => set({ outcome: v ?? undefined })}
				/>
				<FilterText label="Longer than, like 30s" value={search.longer} onChange={(longer) => set({ longer })} />
				<Select
					size="xs"
					w={150}
					aria-label="Order"
					data={[
						{ value: "time", label: "newest first" },
						{ value: "duration", label: "longest first" },
						{ value: "bytes", label: "largest first" },
						{ value: "messages", label: "most messages first" },
					]}
					value={search.sort ?? "time"}
					onChange={(v) => set({ sort: v === "time" || v === null ? undefined : v })}
				/>
				{search.archive === undefined && <Watches />}
			</Group>
			{!sessions.data ? (
				sessions.error ? (
					<Failed error={sessions.error} />
				) : (
					<Loading what="the sessions" />
				)
			) : items.length === 0 ? (
				<div className="surface">
					<Nothing title="No session matches">Sessions are kept as long as messages are.</Nothing>
				</div>
			) : (
				<div className="surface">
					<DataTable<Session>
						records={items}
						verticalSpacing={4}
						withTableBorder={false}
						backgroundColor="var(--gull-surface)"
						height="calc(100vh - 200px)"
						fetching={sessions.isFetchingNextPage}
						onScrollToBottom={() => sessions.hasNextPage && void sessions.fetchNextPage()}
						onRowClick={({ record }) =>
							void navigate({
								to: "/sessions/$id",
								params: { id: record.id },
								search: { archive: search.archive },
							} as never)
						}
						columns={[
							{ accessor: "started_at", title: "Began", width: 85, render: (s) => <When time={s.started_at} /> },
							{ accessor: "seconds", title: "Lasted", textAlign: "right", width: 80, render: (s) => lasted(s.seconds) },
							{
								accessor: "direction",
								title: "Path",
								width: 150,
								ellipsis: true,
								render: (s) => (
									<>
										{s.direction === "in" ? "in at " : "out by "}
										{s.listener || s.route}
									</>
								),
							},
							{
								accessor: "name",
								title: "Peer",
								width: 300,
								ellipsis: true,
								render: (s) => (
									<Anchor
										component={Link}
										to="/sessions/$id"
										params={{ id: s.id } as never}
										search={{ archive: search.archive } as never}
										inherit
										onClick={(e: React.MouseEvent) => e.stopPropagation()}
									>
										<span className="mono" title={`${s.name} [${s.address}]`}>
											{s.name || "–"} [{s.address}]
										</span>
									</Anchor>
								),
							},
							{
								accessor: "tls",
								title: "TLS",
								width: 70,
								render: (s) =>
									s.tls ? (
										s.tls.slice(4, 7)
									) : (
										<Text span c="dimmed">
											–
										</Text>
									),
							},
							{
								accessor: "account",
								title: "Account",
								width: 120,
								ellipsis: true,
								render: (s) => (s.account ? <span className="mono">{s.account}</span> : "–"),
							},
							{
								accessor: "messages",
								title: "Messages",
								textAlign: "right",
								width: 75,
								render: (s) => count(s.message_count),
							},
							{ accessor: "refused", title: "Refused", textAlign: "right", width: 85, render: (s) => count(s.refused) },
							{
								accessor: "bytes",
								title: "Octets",
								textAlign: "right",
								width: 80,
								render: (s) => octets(s.bytes_in + s.bytes_out),
							},
							{ accessor: "outcome", title: "Outcome", width: 115, render: (s) => <State state={s.outcome} /> },
							{
								accessor: "ended",
								title: "Ended because",
								ellipsis: true,
								render: (s) => <span title={s.ended}>{s.ended || "it is open"}</span>,
							},
						]}
					/>
				</div>
			)}
		</>
	);
}

/** lasted writes a duration of a session. */
export function lasted(seconds: number): string {
	if (seconds < 1) {
		return `${Math.round(seconds * 1000)} ms`;
	}
	return seconds < 120 ? `${seconds.toFixed(1)} s` : `${Math.round(seconds / 60)} min`;
}
