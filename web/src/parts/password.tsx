import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, PasswordInput, Stack, Text } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { people } from "../api/people";

/** Chooses a new password of one's own: an operator's, whose other sessions end, or a mailbox's. */
export function PasswordForm({
	onDone,
	send = people.changePassword,
	note = t`All your other sessions end.`,
}: {
	onDone: () => void;
	send?: (old: string, chosen: string) => Promise<unknown>;
	note?: string;
}) {
	const [old, setOld] = useState("");
	const [chosen, setChosen] = useState("");
	const [again, setAgain] = useState("");
	const change = useMutation({
		mutationFn: () => send(old, chosen),
		onSuccess: () => {
			setOld("");
			setChosen("");
			setAgain("");
			onDone();
		},
	});
	const differs = again !== "" && again !== chosen;
	return (
		<form
			onSubmit={(e) => {
				e.preventDefault();
				change.mutate();
			}}
		>
			<Stack gap="xs" maw={360}>
				{change.error && (
					<Alert color="buoy" role="alert" p="xs">
						{change.error.message}
					</Alert>
				)}
				<PasswordInput
					size="xs"
					label={t`Old password`}
					autoComplete="current-password"
					required
					value={old}
					onChange={(e) => setOld(e.currentTarget.value)}
				/>
				<PasswordInput
					size="xs"
					label={t`New password`}
					description={t`At least 10 characters that nobody guesses: a few words that do not belong together do.`}
					autoComplete="new-password"
					required
					value={chosen}
					onChange={(e) => setChosen(e.currentTarget.value)}
				/>
				<PasswordInput
					size="xs"
					label={t`The new one once more`}
					autoComplete="new-password"
					required
					error={differs && t`It is not the same.`}
					value={again}
					onChange={(e) => setAgain(e.currentTarget.value)}
				/>
				<div>
					<Button size="xs" type="submit" disabled={!old || !chosen || again !== chosen} loading={change.isPending}>
						<Trans>Change the password</Trans>
					</Button>
				</div>
				<Text size="xs" c="dimmed">
					{note}
				</Text>
			</Stack>
		</form>
	);
}
