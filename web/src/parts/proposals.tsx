import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Checkbox, Group, Modal, Stack, Text, TextInput, UnstyledButton } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Proposal, setup } from "../api/setup";
import { useMayChange } from "./may";
import { Failed, Loading } from "./states";

/** Proposals are usual wishes, to be added as gates and changed like any other. */
export function Proposals() {
	const [open, setOpen] = useState(false);
	const may = useMayChange();
	return (
		<>
			<Button size="xs" variant="default" disabled={!may} onClick={() => setOpen(true)}>
				<Trans>Proposals</Trans>
			</Button>
			<Modal
				opened={open}
				onClose={() => setOpen(false)}
				size="lg"
				title={
					<Text fw={650}>
						<Trans>Usual wishes</Trans>
					</Text>
				}
				closeButtonProps={{ "aria-label": t`Close` }}
			>
				{open && <Choice onDone={() => setOpen(false)} />}
			</Modal>
		</>
	);
}

function Choice({ onDone }: { onDone: () => void }) {
	const list = useQuery({ queryKey: ["proposals"], queryFn: setup.proposals, staleTime: Number.POSITIVE_INFINITY });
	const [chosen, setChosen] = useState("");
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the proposals`} />;
	}
	return (
		<Stack gap="sm">
			{list.data.items.map((x) => (
				<div key={x.key}>
					<UnstyledButton
						fw={600}
						onClick={() => setChosen(chosen === x.key ? "" : x.key)}
						aria-expanded={chosen === x.key}
					>
						{x.title}
					</UnstyledButton>
					<Text size="sm" c="dimmed">
						{x.explains}
					</Text>
					{chosen === x.key && <Blanks proposal={x} onDone={onDone} />}
				</div>
			))}
		</Stack>
	);
}

/** Blanks are what a proposal needs to know. */
function Blanks({ proposal, onDone }: { proposal: Proposal; onDone: () => void }) {
	const [answers, setAnswers] = useState<Record<string, string>>({});
	const [watch, setWatch] = useState(false);
	const client = useQueryClient();
	const add = useMutation({
		mutationFn: () => setup.addProposal(proposal.key, answers, watch),
		onSuccess: (r) => {
			notifications.show({ color: "kelp", message: t`In the draft: ${r.text}.` });
			void client.invalidateQueries();
			onDone();
		},
	});
	return (
		<form
			onSubmit={(e) => {
				e.preventDefault();
				add.mutate();
			}}
		>
			<Stack gap="xs" mt="xs">
				{(proposal.asks ?? []).map((b) => (
					<TextInput
						key={b.name}
						size="xs"
						label={b.title}
						placeholder={b.example}
						withAsterisk
						value={answers[b.name] ?? ""}
						onChange={(e) => setAnswers({ ...answers, [b.name]: e.currentTarget.value })}
					/>
				))}
				<Checkbox
					size="xs"
					label={t`Let it only watch at first: it decides nothing, and counts what it would have done`}
					checked={watch}
					onChange={(e) => setWatch(e.currentTarget.checked)}
				/>
				{add.error && <Failed error={add.error} />}
				<Group>
					<Button type="submit" size="xs" loading={add.isPending}>
						<Trans>Add to the draft</Trans>
					</Button>
				</Group>
			</Stack>
		</form>
	);
}
