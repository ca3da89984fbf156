import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
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
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the revisions`} />;
	}
	const items = list.data.pages.flatMap((p) => p.items);
	const open = search.number ?? items[0]?.number;
	return (
		<Stack gap="sm">
			<Heading>
				<Trans>Revisions</Trans>
			</Heading>
			<div className="surface">
				<Table verticalSpacing={5} horizontalSpacing="sm" highlightOnHover>
					<Table.Thead>
						<Table.Tr>
							<Table.Th>
								<Trans>Revision</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Applied</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>At</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>By</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Why</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Back</Trans>
							</Table.Th>
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
									{n === 0 && (
										<b>
											<Trans>in force</Trans>
										</b>
									)}
								</Table.Td>
								<Table.Td>
									<When time={r.applied_at} />
								</Table.Td>
								<Table.Td>{exact(r.applied_at)}</Table.Td>
								<Table.Td>{r.who}</Table.Td>
								<Table.Td>
									{[r.forced && t`by force`, r.reverts > 0 && t`back to ${r.reverts}`, r.why]
										.filter(Boolean)
										.join(": ")}
									{r.confirm_by && (
										<>
											{" "}
											<Trans>
												goes back <When time={r.confirm_by} />
											</Trans>
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
					<Trans>Show older ones</Trans>
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
		return view.error ? <Failed error={view.error} /> : <Loading what={t`the revision`} />;
	}
	const v = view.data;
	return (
		<>
			<section className="surface" aria-labelledby="changed">
				<Title order={2} size="h5" id="changed" p="sm" pb={4}>
					{v.against > 0 ? t`What revision ${number} changed` : t`Revision ${number} is the first`}
				</Title>
				{v.against > 0 && <ChangeTable changes={v.changes} />}
			</section>
			<YAML text={v.yaml} />
			<details className="surface">
				<summary style={{ padding: "8px 12px", cursor: "pointer", fontWeight: 600 }}>
					<Trans>Its text</Trans>
				</summary>
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
				title: t`Revision ${a.revision} is in force`,
				message: a.trouble.join(" ") || t`It is revision ${revision.number} again.`,
			});
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not reverted`, message: e.message }),
	});
	return (
		<>
			<Button size="compact-xs" variant="default" disabled={!may} onClick={() => setAsking(true)}>
				<Trans>Go back to it</Trans>
			</Button>
			<Modal
				opened={asking}
				onClose={() => setAsking(false)}
				title={t`Go back to revision ${revision.number}?`}
				closeButtonProps={{ "aria-label": t`Close` }}
			>
				<Stack gap="sm">
					<Alert color="brass">
						<Trans>It is in force immediately, on all nodes. A draft stays, and can be rebased.</Trans>
					</Alert>
					<TextInput
						size="xs"
						label={t`Why`}
						data-autofocus
						value={why}
						onChange={(e) => setWhy(e.currentTarget.value)}
					/>
					<Group justify="end">
						<Button size="xs" loading={revert.isPending} onClick={() => revert.mutate()}>
							<Trans>Go back</Trans>
						</Button>
					</Group>
				</Stack>
			</Modal>
		</>
	);
}
