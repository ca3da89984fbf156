import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type NodeView, queue } from "../api/queue";
import type { Column } from "../parts/columns";
import { List } from "../parts/list";
import { whole } from "../parts/pages";
import { PauseButton } from "../parts/pause";
import { RestartButton } from "../parts/restart";
import { Nothing } from "../parts/states";
import { count, octets } from "../parts/text";
import { When } from "../parts/when";

const meaning: Record<string, string> = {
	running: t`takes and delivers mail`,
	draining: t`finishes what it has under way`,
	drained: t`has nothing left and can be stopped`,
	silent: t`has not been heard of; what it held goes on elsewhere`,
};

/** The services that share the queue. */
export function NodesView() {
	const nodes = useQuery({ queryKey: ["nodes"], queryFn: queue.nodes, refetchInterval: 3000 });
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

const roles: Record<string, string> = {
	takes: t`takes mail only`,
	delivers: t`delivers only`,
	nothing: t`neither takes nor delivers`,
};

/** stateOf is a node's state in a word, and what that means. */
function stateOf(n: NodeView): { word: string; means: string; bad?: boolean } {
	if (n.state !== "silent" && n.begins_anew) {
		return { word: t`restarting`, means: t`finishes what is under way and begins anew` };
	}
	if (n.state === "running" && n.facts?.not_ready) {
		return { word: t`takes no mail`, means: n.facts.not_ready, bad: true };
	}
	return { word: n.state, means: meaning[n.state] ?? "", bad: n.state === "silent" };
}

const small = (text: string) => (
	<Text size="xs" c="dimmed" truncate title={text}>
		{text}
	</Text>
);

const nodeColumns: Column<NodeView>[] = [
	{
		key: "name",
		title: t`Node`,
		width: 150,
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
				{n.facts && small(n.facts.version)}
			</>
		),
	},
	{
		key: "state",
		title: t`State`,
		width: 240,
		grow: 3,
		cell: (n) => {
			const { word, means, bad } = stateOf(n);
			return (
				<>
					<Text span inherit c={bad ? "buoy" : undefined}>
						<b>{word}</b> {means}
					</Text>
					{n.pause ? (
						<Text size="xs" c="dimmed" truncate>
							<Trans>
								drained by {n.pause.who} <When time={n.pause.since} />
							</Trans>
							{n.pause.why && `: ${n.pause.why}`}
						</Text>
					) : (
						n.facts &&
						small(
							n.facts.role === "takes and delivers"
								? Object.keys(n.facts.listeners).join(", ")
								: (roles[n.facts.role] ?? n.facts.role),
						)
					)}
				</>
			);
		},
	},
	{
		key: "started_at",
		title: t`Up since`,
		width: 100,
		cell: (n) => (
			<>
				<When time={n.started_at} />
				<Text size="xs" c="dimmed">
					<Trans>
						heard of <When time={n.seen_at} />
					</Trans>
				</Text>
			</>
		),
	},
	{
		key: "revision",
		title: t`Revision`,
		width: 75,
		right: true,
		cell: (n) => n.facts && count(n.facts.revision),
	},
	{
		key: "leased",
		title: t`Works on`,
		width: 90,
		right: true,
		cell: (n) => (
			<>
				{count(n.leased)}
				{n.facts && small(t`${count(n.facts.sessions)} sessions`)}
			</>
		),
	},
	{
		key: "load",
		title: t`Load`,
		width: 80,
		right: true,
		cell: (n) =>
			n.facts && (
				<>
					{Math.round(100 * n.facts.load)} %{small(octets(n.facts.memory))}
				</>
			),
	},
	{
		key: "write",
		title: t`Database`,
		width: 110,
		right: true,
		cell: (n) =>
			n.facts && (
				<>
					{(1000 * n.facts.write_seconds).toFixed(1)} ms
					{n.facts.behind_seconds !== undefined &&
						small(
							n.facts.behind_seconds < 0
								? t`standby not used`
								: t`standby ${n.facts.behind_seconds.toFixed(1)} s behind`,
						)}
				</>
			),
	},
	{
		key: "listeners",
		title: t`Listeners`,
		width: 220,
		grow: 1,
		extra: true,
		text: (n) =>
			Object.entries(n.facts?.listeners ?? {})
				.map(([name, at]) => `${name} ${at}`)
				.join(", "),
		cell: (n) => small(Object.keys(n.facts?.listeners ?? {}).join(", ")),
	},
	{
		key: "drain",
		title: t`Drain or restart`,
		width: 210,
		right: true,
		cell: (n) => (
			<Group gap={6} justify="flex-end" wrap="nowrap">
				<PauseButton kind="node" name={n.name} what={t`node`} paused={Boolean(n.pause)} />
				<RestartButton name={n.name} disabled={n.state === "silent" || Boolean(n.begins_anew)} here={n.here} />
			</Group>
		),
	},
];
