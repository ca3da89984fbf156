import { Anchor, Breadcrumbs, Group, Select, Stack, Text, Title } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { gull, type QueueItem, type QueueWords } from "../api/client";
import { FilterText } from "../parts/filter";
import { Flush } from "../parts/flush";
import { Reply, ReplyLine } from "../parts/reply";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets, shown, soft } from "../parts/text";
import { When } from "../parts/when";

const pageSize = 100;

/** One lane: how it does, and the letters that wait in it. */
export function LanePage() {
	const { lane: id } = useParams({ from: "/queue/$lane" });
	const words = useSearch({ from: "/queue/$lane" });
	const lanes = useQuery({ queryKey: ["lanes"], queryFn: gull.lanes });
	const lane = lanes.data?.items.find((l) => l.id === id);
	return (
		<Stack gap="sm">
			<Breadcrumbs>
				<Anchor component={Link} to="/queue" size="sm">
					Queue
				</Anchor>
				<Text size="sm">{lane?.next_hop ?? id}</Text>
			</Breadcrumbs>
			<Group justify="space-between" align="start">
				<Title order={1} size="h3">
					{lane?.next_hop ?? "Nothing waits in this lane"}
				</Title>
				{lane && <Flush words={{ ...words, lane: id }} label="Try these now" />}
			</Group>
			{lane && (
				<div className="surface" style={{ padding: 12 }}>
					<Group gap="4px 28px" mb={lane.last_reply ? "sm" : 0}>
						<span>
							<State state={lane.state} /> {lane.state !== "moving" && lane.why}
						</span>
						<Text size="sm">by route {lane.route}</Text>
						<Text size="sm">
							{count(lane.waiting)} waiting, {count(lane.deferred)} deferred, {count(lane.sending)} sending over{" "}
							{count(lane.connections)} connections, {octets(lane.bytes)}
						</Text>
						<Text size="sm">
							next try <When due time={lane.until ?? lane.next_attempt_at} />, first given up{" "}
							<When time={lane.expires_at} />
						</Text>
					</Group>
					{lane.last_reply && <Reply reply={lane.last_reply} />}
				</div>
			)}
			<Filter words={words} id={id} />
			<Letters id={id} words={words} />
		</Stack>
	);
}

function Filter({ words, id }: { words: QueueWords; id: string }) {
	const navigate = useNavigate();
	const set = useDebouncedCallback((change: QueueWords) => {
		void navigate({
			to: "/queue/$lane",
			params: { lane: id } as never,
			search: { ...words, ...change } as never,
			replace: true,
		});
	}, 300);
	return (
		<Group gap="xs">
			<Select
				size="xs"
				aria-label="State"
				placeholder="Any state"
				clearable
				w={130}
				data={["waiting", "deferred", "held"]}
				value={words.state ?? null}
				onChange={(v) => set({ state: (v ?? undefined) as QueueWords["state"] })}
			/>
			<FilterText label="Sender" value={words.sender} onChange={(sender) => set({ sender })} />
			<FilterText label="Recipient" value={words.recipient} onChange={(recipient) => set({ recipient })} />
		</Group>
	);
}

function Letters({ id, words }: { id: string; words: QueueWords }) {
	const navigate = useNavigate();
	const letters = useInfiniteQuery({
		queryKey: ["queue", id, words],
		queryFn: ({ pageParam }) => gull.queue({ ...words, lane: id }, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!letters.data) {
		return letters.error ? <Failed error={letters.error} /> : <Loading what="the letters" />;
	}
	const items = letters.data.pages.flatMap((p) => p.items);
	if (items.length === 0) {
		return (
			<div className="surface">
				<Nothing title="No letters">Nothing that matches waits here now.</Nothing>
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
				height={items.length > 12 ? "calc(100vh - 330px)" : undefined}
				minHeight={120}
				fetching={letters.isFetchingNextPage}
				onScrollToBottom={() => letters.hasNextPage && void letters.fetchNextPage()}
				onRowClick={({ record }) =>
					void navigate({ to: "/messages/$id", params: { id: record.delivery.message_id } as never })
				}
				columns={[
					{ accessor: "received_at", title: "Came", width: 90, render: (q) => <When time={q.received_at} /> },
					{ accessor: "delivery.state", title: "State", width: 110, render: (q) => <State state={q.delivery.state} /> },
					{
						accessor: "subject",
						title: "Subject",
						render: (q) => (
							<Anchor component={Link} to="/messages/$id" params={{ id: q.delivery.message_id } as never} inherit>
								{q.subject || "(no subject)"}
							</Anchor>
						),
					},
					{ accessor: "sender", title: "From", render: (q) => <span className="mono">{soft(shown(q.sender))}</span> },
					{
						accessor: "delivery.recipient",
						title: "To",
						render: (q) => <span className="mono">{soft(q.delivery.recipient)}</span>,
					},
					{ accessor: "size", title: "Size", textAlign: "right", width: 80, render: (q) => octets(q.size) },
					{ accessor: "delivery.attempts", title: "Tries", textAlign: "right", width: 60 },
					{
						accessor: "delivery.next_attempt_at",
						title: "Next try",
						width: 90,
						render: (q) => <When due time={q.delivery.next_attempt_at} />,
					},
					{
						accessor: "delivery.expires_at",
						title: "Given up",
						width: 100,
						render: (q) => <When time={q.delivery.expires_at} />,
					},
					{
						accessor: "delivery.last_reply",
						title: "Last answer",
						render: (q) => <ReplyLine reply={q.delivery.last_reply} />,
					},
				]}
			/>
		</div>
	);
}
