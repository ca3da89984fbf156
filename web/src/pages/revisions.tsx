import { Alert, Button, Group, Modal, Stack, Table, TextInput, Title, UnstyledButton } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { type Revision, setup } from "../api/setup";
import { Heading } from "../parts/heading";
import { useMayChange } from "../parts/may";
import { Failed, Loading } from "../parts/states";
import { exact, When } from "../parts/when";
import { ChangeTable, YAML } from "./draft";
import classes from "./setup.module.css";

/** Revisions: what was in force, since when, by whom, and going back. */
export function RevisionsPage() {
	const search = useSearch({ from: "/setup/revisions" });
	const navigate = useNavigate();
	const list = useInfiniteQuery({
		queryKey: ["revisions"],
		initialPageParam: "",
		queryFn: ({ pageParam }) => setup.revisions(pageParam),
		getNextPageParam: (last) => last.next || undefined,
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what="the revisions" />;
	}
	const items = list.data.pages.flatMap((p) => p.items);
	const open = search.number ?? items[0]?.number;
	return (
		<Stack gap="sm">
			<Heading>Revisions</Heading>
			<div className="surface">
				<Table verticalSpacing={5} horizontalSpacing="sm" highlightOnHover>
					<Table.Thead>
						<Table.Tr>
							<Table.Th>Revision</Table.Th>
							<Table.Th>Applied</Table.Th>
							<Table.Th>At</Table.Th>
							<Table.Th>By</Table.Th>
							<Table.Th>Why</Table.Th>
							<Table.Th>Back</Table.Th>
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{items.map((r, n) => (
							<Table.Tr key={r.number} bg={r.number === open ? "var(--gull-moves-wash)" : undefined}>
								<Table.Td>
									<UnstyledButton
										className={classes.row_button}
										onClick={() =>
											void navigate({ to: "/setup/revisions", search: { number: r.number }, replace: true })
										}
									>
										{r.number}
									</UnstyledButton>{" "}
									{n === 0 && <b>in force</b>}
								</Table.Td>
								<Table.Td>
									<When time={r.applied_at} />
								</Table.Td>
								<Table.Td>{exact(r.applied_at)}</Table.Td>
								<Table.Td>{r.who}</Table.Td>
								<Table.Td>
									{[r.forced && "by force", r.reverts > 0 && `back to ${r.reverts}`, r.why].filter(Boolean).join(": ")}
									{r.confirm_by && (
										<>
											{" "}
											goes back <When time={r.confirm_by} />
										</>
									)}
								</Table.Td>
								<Table.Td ta="right">{n > 0 && <GoBack revision={r} />}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</div>
			{list.hasNextPage && (
				<Button variant="default" size="xs" onClick={() => void list.fetchNextPage()}>
					Show older ones
				</Button>
			)}
			{open !== undefined && <Detail number={open} />}
		</Stack>
	);
}

function Detail({ number }: { number: number }) {
	const view = useQuery({
		queryKey: ["revision", number],
		queryFn: () => setup.revision(number),
		meta: { past: () => true },
	});
	if (!view.data) {
		return view.error ? <Failed error={view.error} /> : <Loading what="the revision" />;
	}
	const v = view.data;
	return (
		<>
			<section className="surface" aria-labelledby="changed">
				<Title order={2} size="h5" id="changed" p="sm" pb={4}>
					{v.against > 0 ? `What revision ${number} changed` : `Revision ${number} is the first`}
				</Title>
				{v.against > 0 && <ChangeTable changes={v.changes} />}
			</section>
			<YAML text={v.yaml} />
			<details className="surface">
				<summary style={{ padding: "8px 12px", cursor: "pointer", fontWeight: 600 }}>Its text</summary>
				<pre className={`mono ${classes.diff}`}>{v.revision.text}</pre>
			</details>
		</>
	);
}

function GoBack({ revision }: { revision: Revision }) {
	const client = useQueryClient();
	const may = useMayChange();
	const [asking, setAsking] = useState(false);
	const [why, setWhy] = useState("");
	const revert = useMutation({
		mutationFn: () => setup.revert(revision.number, why),
		onSuccess: (a) => {
			setAsking(false);
			notifications.show({
				color: a.trouble.length ? "buoy" : "kelp",
				title: `Revision ${a.revision} is in force`,
				message: a.trouble.join(" ") || `It is revision ${revision.number} again.`,
			});
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: "Not reverted", message: e.message }),
	});
	return (
		<>
			<Button size="compact-xs" variant="default" disabled={!may} onClick={() => setAsking(true)}>
				Go back to it
			</Button>
			<Modal
				opened={asking}
				onClose={() => setAsking(false)}
				title={`Go back to revision ${revision.number}?`}
				closeButtonProps={{ "aria-label": "Close" }}
			>
				<Stack gap="sm">
					<Alert color="brass">It is in force immediately, on all nodes. A draft stays, and can be rebased.</Alert>
					<TextInput size="xs" label="Why" data-autofocus value={why} onChange={(e) => setWhy(e.currentTarget.value)} />
					<Group justify="end">
						<Button size="xs" loading={revert.isPending} onClick={() => revert.mutate()}>
							Go back
						</Button>
					</Group>
				</Stack>
			</Modal>
		</>
	);
}
