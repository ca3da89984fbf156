import { Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { DataTable } from "mantine-datatable";
import { type NodeView, queue } from "../api/queue";
import { PauseButton } from "../parts/pause";
import { Failed, Loading } from "../parts/states";
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
	if (!nodes.data) {
		return nodes.error ? <Failed error={nodes.error} /> : <Loading what="the nodes" />;
	}
	return (
		<div className="surface">
			<DataTable<NodeView>
				idAccessor="name"
				records={nodes.data.items}
				verticalSpacing={6}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				minHeight={120}
				columns={[
					{
						accessor: "name",
						title: "Node",
						render: (n) => (
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
						accessor: "state",
						render: (n) => (
							<>
								<b>{n.state}</b> {meaning[n.state]}
								{n.pause && (
									<Text size="xs" c="dimmed">
										drained by {n.pause.who} <When time={n.pause.since} />
										{n.pause.why && `: ${n.pause.why}`}
									</Text>
								)}
							</>
						),
					},
					{ accessor: "started_at", title: "Up since", render: (n) => <When time={n.started_at} /> },
					{ accessor: "seen_at", title: "Heard of", render: (n) => <When time={n.seen_at} /> },
					{ accessor: "leased", title: "Works on", textAlign: "right", render: (n) => count(n.leased) },
					{
						accessor: "drain",
						title: "",
						textAlign: "right",
						render: (n) => <PauseButton kind="node" name={n.name} what="node" paused={Boolean(n.pause)} />,
					},
				]}
			/>
		</div>
	);
}
