import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, Modal, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { IconRefresh } from "@tabler/icons-react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { queue } from "../api/queue";
import { useMayWork } from "./may";

/** RestartButton lets a node end in order and begin anew. */
export function RestartButton({ name, disabled, here }: { name: string; disabled?: boolean; here: boolean }) {
	const [open, setOpen] = useState(false);
	const mayChange = useMayWork();
	return (
		<>
			<Button
				size="xs"
				variant="default"
				disabled={disabled || !mayChange}
				title={mayChange ? undefined : t`A viewer may look, not change`}
				leftSection={<IconRefresh size={14} />}
				onClick={() => setOpen(true)}
			>
				<Trans>Restart</Trans>
			</Button>
			{open && <Restarting name={name} here={here} onClose={() => setOpen(false)} />}
		</>
	);
}

function Restarting({ name, here, onClose }: { name: string; here: boolean; onClose: () => void }) {
	const [why, setWhy] = useState("");
	const client = useQueryClient();
	const restart = useMutation({
		mutationFn: () => queue.restart(name, why || undefined),
		onSuccess: (asked) => {
			notifications.show({ message: asked.text });
			void client.invalidateQueries({ queryKey: ["nodes"] });
			onClose();
		},
	});
	return (
		<Modal opened onClose={onClose} title={t`Restart ${name}`}>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					restart.mutate();
				}}
			>
				<Stack gap="sm">
					<Text size="sm">
						<Trans>
							It finishes what is under way and begins anew, with the program that stands at its place by then. The
							other nodes go on meanwhile; clients that come to this one are turned away for a few seconds and come
							again.
						</Trans>
					</Text>
					{here && (
						<Text size="sm" c="dimmed">
							<Trans>This console is answered by this node: it says nothing for those seconds.</Trans>
						</Text>
					)}
					<TextInput
						label={t`Why`}
						description={t`Kept in the audit log`}
						value={why}
						onChange={(e) => setWhy(e.currentTarget.value)}
						data-autofocus
					/>
					{restart.isError && <Alert color="buoy">{restart.error.message}</Alert>}
					<Group justify="flex-end">
						<Button variant="default" onClick={onClose}>
							<Trans>Cancel</Trans>
						</Button>
						<Button type="submit" loading={restart.isPending}>
							<Trans>Restart</Trans>
						</Button>
					</Group>
				</Stack>
			</form>
		</Modal>
	);
}
