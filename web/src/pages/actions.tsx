import { Anchor, Button, Text } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { Link } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { type Action, queue } from "../api/queue";
import { useTold } from "../parts/act";
import { useMayChange } from "../parts/editor";
import { Failed, Loading, Nothing } from "../parts/states";
import { count } from "../parts/text";
import { When } from "../parts/when";

/** What people did with messages, lanes and nodes: who, why, and the way back. */
export function ActionsView() {
	const actions = useInfiniteQuery({
		queryKey: ["actions"],
		queryFn: ({ pageParam }) => queue.actions(pageParam),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!actions.data) {
		return actions.error ? <Failed error={actions.error} /> : <Loading what="the actions" />;
	}
	const items = actions.data.pages.flatMap((p) => p.items);
	if (items.length === 0) {
		return (
			<div className="surface">
				<Nothing title="Nobody has done anything yet">
					What people hold, send by another route, return, drop or pause is kept here, with who and why.
				</Nothing>
			</div>
		);
	}
	return (
		<div className="surface">
			<DataTable<Action>
				records={items}
				verticalSpacing={6}
				withTableBorder={false}
				backgroundColor="var(--gull-surface)"
				height={items.length > 15 ? "calc(100vh - 180px)" : undefined}
				onScrollToBottom={() => actions.hasNextPage && void actions.fetchNextPage()}
				columns={[
					{ accessor: "id", title: "No.", textAlign: "right", width: 60 },
					{ accessor: "at", title: "When", width: 90, render: (a) => <When time={a.at} /> },
					{ accessor: "who", width: 100 },
					{ accessor: "verb", title: "What", width: 90, render: (a) => <b>{a.verb}</b> },
					{
						accessor: "on",
						render: (a) => (
							<>
								{a.on}
								{a.detail && (
									<Text size="xs" c="dimmed">
										{Object.entries(a.detail)
											.filter(([k]) => k !== "kind" && k !== "name")
											.map(([k, v]) => `${k.replace("_", " ")} ${v}`)
											.join(", ")}
									</Text>
								)}
							</>
						),
					},
					{
						accessor: "touched",
						title: "Messages",
						textAlign: "right",
						width: 90,
						render: (a) =>
							a.touched > 0 && a.verb !== "drop" && a.verb !== "return" ? (
								<Anchor component={Link} to="/queue" search={{ view: "messages", action: a.id } as never} inherit>
									{count(a.touched)}
								</Anchor>
							) : (
								count(a.touched)
							),
					},
					{ accessor: "why", render: (a) => a.why || "–" },
					{ accessor: "undo", title: "", textAlign: "right", width: 170, render: (a) => <Back action={a} /> },
				]}
			/>
		</div>
	);
}

function Back({ action }: { action: Action }) {
	const told = useTold();
	const mayChange = useMayChange();
	const undo = useMutation({
		mutationFn: () => queue.undo(action.id, () => {}),
		onSuccess: (done) => told(done, false),
		onError: (e) => notifications.show({ color: "buoy", title: "Not taken back", message: e.message }),
	});
	if (action.undone_by) {
		return (
			<Text size="xs" c="dimmed">
				taken back by {action.undone_by}
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
			title={`Taking it back ${action.undo}`}
			onClick={() => undo.mutate()}
		>
			{action.verb === "drop" ? "Restore" : "Undo"}
		</Button>
	);
}
