import { Anchor, Group, Stack, Text, TextInput, Title } from "@mantine/core";
import { IconFilter } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { DataTable, type DataTableSortStatus } from "mantine-datatable";
import { useState } from "react";
import { gull, type Lane } from "../api/client";
import { WhyStranded } from "../parts/mend";
import { ReplyLine } from "../parts/reply";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { count, octets, plural } from "../parts/text";
import { When } from "../parts/when";

const order: Record<string, (l: Lane) => string | number> = {
	next_hop: (l) => l.next_hop,
	state: (l) => l.state,
	total: (l) => l.waiting + l.deferred + l.held,
	bytes: (l) => l.bytes,
	oldest_at: (l) => l.oldest_at ?? "",
	next_attempt_at: (l) => l.next_attempt_at ?? "",
};

/** The lanes: what waits, by where it is to go. */
export function QueuePage() {
	const lanes = useQuery({ queryKey: ["lanes"], queryFn: gull.lanes });
	const search = useSearch({ from: "/queue" });
	const navigate = useNavigate();
	const [sort, setSort] = useState<DataTableSortStatus<Lane>>({ columnAccessor: "total", direction: "desc" });
	if (!lanes.data) {
		return lanes.error ? <Failed error={lanes.error} /> : <Loading what="the lanes" />;
	}
	const words = (search.find ?? "").toLowerCase();
	const matching = lanes.data.items.filter((l) =>
		`${l.next_hop} ${l.route} ${l.state} ${l.cause}`.toLowerCase().includes(words),
	);
	const by = order[sort.columnAccessor as string] ?? (() => 0);
	const sorted = matching.toSorted((a, b) => {
		const [x, y] = [by(a), by(b)];
		return (x < y ? -1 : x > y ? 1 : 0) * (sort.direction === "desc" ? -1 : 1);
	});
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Title order={1} size="h3">
					Queue{" "}
					<Text span c="dimmed" size="sm">
						{plural(lanes.data.items.length, "lane", "lanes")} with mail waiting
					</Text>
				</Title>
				<TextInput
					size="xs"
					w={260}
					placeholder="Host, route, state or cause"
					aria-label="Show lanes by host, route, state or cause"
					leftSection={<IconFilter size={14} />}
					value={search.find ?? ""}
					onChange={(e) =>
						void navigate({ to: "/queue", search: { find: e.currentTarget.value || undefined }, replace: true })
					}
				/>
			</Group>
			<OneOrUs lanes={lanes.data.items} />
			<div className="surface">
				{sorted.length === 0 ? (
					<Nothing title={words ? "No lane matches" : "Nothing waits"}>
						{words ? "Take the filter away to see all lanes." : "Every letter has left or has been delivered."}
					</Nothing>
				) : (
					<DataTable
						records={sorted}
						sortStatus={sort}
						onSortStatusChange={setSort}
						verticalSpacing={6}
						withTableBorder={false}
						backgroundColor="var(--gull-surface)"
						minHeight={120}
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
							{ accessor: "route", title: "Route" },
							{ accessor: "state", title: "State", sortable: true, render: (l) => <State state={l.state} /> },
							{ accessor: "waiting", title: "Waiting", textAlign: "right", render: (l) => count(l.waiting) },
							{ accessor: "deferred", title: "Deferred", textAlign: "right", render: (l) => count(l.deferred) },
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
								title: "Next try",
								sortable: true,
								render: (l) => <When due time={l.next_attempt_at} />,
							},
							{
								accessor: "last_reply",
								title: "Last answer",
								width: "34%",
								render: (l) => (l.state === "stranded" ? <WhyStranded lane={l} /> : <ReplyLine reply={l.last_reply} />),
							},
						]}
					/>
				)}
			</div>
		</Stack>
	);
}

const networkStages = new Set(["dns", "connect", "greeting"]);

/** OneOrUs says whether it looks like one destination's trouble or ours. */
function OneOrUs({ lanes }: { lanes: Lane[] }) {
	const troubled = lanes.filter((l) => l.state === "resting" && networkStages.has(l.last_reply?.stage ?? ""));
	const all = lanes.filter((l) => l.next_hop !== "local");
	if (troubled.length === 0) {
		return null;
	}
	const ours = troubled.length >= 5 && troubled.length * 2 > all.length;
	return (
		<Text size="sm">
			{ours
				? `${troubled.length} of ${all.length} destinations cannot be reached: this looks like our own network or resolver, not theirs.`
				: `${plural(troubled.length, "destination cannot", "destinations cannot")} be reached; the others get their mail, so the trouble is at the far side.`}
		</Text>
	);
}
