import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Text } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation } from "@tanstack/react-query";
import { type Action, queue } from "../api/queue";
import { useTold } from "../parts/act";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { List } from "../parts/list";
import { useMayWork } from "../parts/may";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { Nothing } from "../parts/states";
import { count } from "../parts/text";
import { When } from "../parts/when";

/** What people did with messages, lanes and nodes: who, why, and the way back. */
export function ActionsView() {
	const pages = usePages(["actions"], (after) => queue.actions(after), { rowKey: actionKey });
	return (
		<List
			name="actions"
			label={t`What people did`}
			words={[t`action`, t`actions`]}
			columns={actionColumns}
			pages={pages}
			rowKey={actionKey}
			above={170}
			foot={<CSV path="actions.csv" words={{}} file="actions.csv" />}
			empty={
				<Nothing title={t`Nobody has done anything yet`}>
					<Trans>What people hold, send by another route, return, drop or pause is kept here, with who and why.</Trans>
				</Nothing>
			}
		/>
	);
}

const actionKey = (a: Action) => String(a.id);

const detailOf = (a: Action) =>
	Object.entries(a.detail ?? {})
		.filter(([k]) => k !== "kind" && k !== "name")
		.map(([k, v]) => `${k.replace("_", " ")} ${v}`)
		.join(", ");

const actionColumns: Column<Action>[] = [
	{ key: "id", title: t`No.`, width: 60, right: true, cell: (a) => a.id },
	{ key: "at", title: t`When`, width: 95, cell: (a) => <When time={a.at} /> },
	{ key: "who", title: t`Who`, width: 100, cell: (a) => a.who },
	{ key: "verb", title: t`What`, width: 100, cell: (a) => <b>{a.verb}</b> },
	{
		key: "on",
		title: t`On`,
		width: 250,
		grow: 3,
		text: (a) => [a.on, detailOf(a)].filter(Boolean).join("; "),
		cell: (a) => (
			<>
				{a.on}{" "}
				<Text span size="xs" c="dimmed">
					{detailOf(a)}
				</Text>
			</>
		),
	},
	{
		key: "touched",
		title: t`Messages`,
		width: 90,
		right: true,
		cell: (a) =>
			a.touched > 0 && a.verb !== "drop" && a.verb !== "return" ? (
				<RowTo to="/queue" search={{ view: "messages", action: a.id }}>
					{count(a.touched)}
				</RowTo>
			) : (
				count(a.touched)
			),
	},
	{ key: "why", title: t`Why`, width: 160, grow: 2, text: (a) => a.why, cell: (a) => a.why || "–" },
	{ key: "undo", title: t`Back`, width: 165, right: true, cell: (a) => <Back action={a} /> },
];

function Back({ action }: { action: Action }) {
	const told = useTold();
	const mayChange = useMayWork();
	const undo = useMutation({
		mutationFn: () => queue.undo(action.id, () => {}),
		onSuccess: (done) => told(done, false),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not taken back`, message: e.message }),
	});
	if (action.undone_by) {
		return (
			<Text size="xs" c="dimmed">
				<Trans>taken back by {action.undone_by}</Trans>
			</Text>
		);
	}
	if (!action.can_undo) {
		return null;
	}
	return (
		<Button
			size="compact-xs"
			variant="default"
			disabled={!mayChange}
			loading={undo.isPending}
			title={t`Taking it back ${action.undo ?? ""}`}
			onClick={() => undo.mutate()}
		>
			{action.verb === "drop" ? t`Restore` : t`Undo`}
		</Button>
	);
}
