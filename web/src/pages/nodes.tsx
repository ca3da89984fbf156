import { Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type NodeView, queue } from "../api/queue";
import type { Column } from "../parts/columns";
import { List } from "../parts/list";
import { whole } from "../parts/pages";
import { PauseButton } from "../parts/pause";
import { Nothing } from "../parts/states";
import { count } from "../parts/text";
import { When } from "../parts/when";

const meaning: Record<string, string> = {
	running: "takes and delivers mail",
	draining: "finishes what it has under way",
	drained: "has nothing left and can be stopped",
	silent: "has not been heard of; what it held goes on elsewhere",
};

/** The services that share the queue. */
export function NodesView() {
	const nodes = useQuery({ queryKey: ["nodes"], queryFn: queue.nodes });
	return (
		<List
			name="nodes"
			label="Nodes"
			words={["node", "nodes"]}
			columns={nodeColumns}
			pages={whole(nodes)}
			rowKey={(n) => n.name}
			lines={2}
			above={170}
			empty={<Nothing title="No node is known" />}
		/>
	);
}

const nodeColumns: Column<NodeView>[] = [
	{
		key: "name",
		title: "Node",
		width: 170,
		grow: 1,
		text: (n) => n.name,
		cell: (n) => (
			<>
				{n.name}{" "}
				{n.here && (
					<Text span c="dimmed" inherit>
						answers here
					</Text>
				)}
			</>
		),
	},
	{
		key: "state",
		title: "State",
		width: 300,
		grow: 3,
		cell: (n) => (
			<>
				<b>{n.state}</b> {meaning[n.state]}
				{n.pause && (
					<Text size="xs" c="dimmed" truncate>
						drained by {n.pause.who} <When time={n.pause.since} />
						{n.pause.why && `: ${n.pause.why}`}
					</Text>
				)}
			</>
		),
	},
	{ key: "started_at", title: "Up since", width: 105, cell: (n) => <When time={n.started_at} /> },
	{ key: "seen_at", title: "Heard of", width: 105, cell: (n) => <When time={n.seen_at} /> },
	{ key: "leased", title: "Works on", width: 90, right: true, cell: (n) => count(n.leased) },
	{
		key: "drain",
		title: "Drain",
		width: 150,
		right: true,
		cell: (n) => <PauseButton kind="node" name={n.name} what="node" paused={Boolean(n.pause)} />,
	},
];
