import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
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
	running: t`takes and delivers mail`,
	draining: t`finishes what it has under way`,
	drained: t`has nothing left and can be stopped`,
	silent: t`has not been heard of; what it held goes on elsewhere`,
};

/** The services that share the queue. */
export function NodesView() {
	const nodes = useQuery({ queryKey: ["nodes"], queryFn: queue.nodes });
	return (
		<List
			name="nodes"
			label={t`Nodes`}
			words={[t`node`, t`nodes`]}
			columns={nodeColumns}
			pages={whole(nodes)}
			rowKey={(n) => n.name}
			lines={2}
			above={170}
			empty={<Nothing title={t`No node is known`} />}
		/>
	);
}

const nodeColumns: Column<NodeView>[] = [
	{
		key: "name",
		title: t`Node`,
		width: 170,
		grow: 1,
		text: (n) => n.name,
		cell: (n) => (
			<>
				{n.name}{" "}
				{n.here && (
					<Text span c="dimmed" inherit>
						<Trans>answers here</Trans>
					</Text>
				)}
			</>
		),
	},
	{
		key: "state",
		title: t`State`,
		width: 300,
		grow: 3,
		cell: (n) => (
			<>
				<b>{n.state}</b> {meaning[n.state]}
				{n.pause && (
					<Text size="xs" c="dimmed" truncate>
						<Trans>
							drained by {n.pause.who} <When time={n.pause.since} />
						</Trans>
						{n.pause.why && `: ${n.pause.why}`}
					</Text>
				)}
			</>
		),
	},
	{ key: "started_at", title: t`Up since`, width: 105, cell: (n) => <When time={n.started_at} /> },
	{ key: "seen_at", title: t`Heard of`, width: 105, cell: (n) => <When time={n.seen_at} /> },
	{ key: "leased", title: t`Works on`, width: 90, right: true, cell: (n) => count(n.leased) },
	{
		key: "drain",
		title: t`Drain`,
		width: 150,
		right: true,
		cell: (n) => <PauseButton kind="node" name={n.name} what={t`node`} paused={Boolean(n.pause)} />,
	},
];
