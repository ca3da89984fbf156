import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, PasswordInput, Stack, Text, TextInput, Title } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { gull } from "../api/client";
import { NotLetIn, OtherWays } from "../parts/other-ways";
import classes from "./sign-in.module.css";

/** The password is right, and a code of the second factor is asked for: that is no fault. */
const needsCode = (e: Error) => e.message.includes("second factor is needed");

/**
 * SignIn asks for name and password: on a page of its own, or, when a session has ended,
 * above the page that waits behind it.
 */
export function SignIn({ again, onField }: { again?: boolean; onField?: () => void }) {
	const client = useQueryClient();
	const [name, setName] = useState("");
	const [password, setPassword] = useState("");
	const [code, setCode] = useState("");
	const [asked, setAsked] = useState(false);
	const done = () => (again ? client.invalidateQueries() : client.resetQueries());
	const signIn = useMutation({
		mutationFn: () => gull.signIn(name, password, code || undefined),
		onSuccess: done,
		onError: (e) => needsCode(e) && setAsked(true),
	});
	return (
		<main className={again ? classes.above : classes.page}>
			<form
				className={classes.card}
				onSubmit={(e) => {
					e.preventDefault();
					signIn.mutate();
				}}
			>
				<Stack gap="sm">
					<img src="/gull.svg" alt="" width={44} height={44} />
					<div>
						<Title order={1} size="h2">
							<Trans>Gull Route</Trans>
						</Title>
						<Text size="sm" c="dimmed">
							{again
								? t`The session has ended. Sign in again: the page behind is as you left it.`
								: t`Sign in to see where the mail is.`}
						</Text>
					</div>
					<NotLetIn />
					{signIn.error && !needsCode(signIn.error) && (
						<Alert color="buoy" role="alert" p="xs">
							{signIn.error.message}
						</Alert>
					)}
					<TextInput
						label={t`Name`}
						autoComplete="username"
						required
						autoFocus
						onFocus={onField}
						value={name}
						onChange={(e) => setName(e.currentTarget.value)}
					/>
					<PasswordInput
						label={t`Password`}
						autoComplete="current-password"
						required
						value={password}
						onChange={(e) => setPassword(e.currentTarget.value)}
					/>
					{asked && (
						<TextInput
							label={t`Code`}
							description={t`From your telephone, or one for recovery. Or use a passkey.`}
							autoComplete="one-time-code"
							inputMode="text"
							required
							autoFocus
							value={code}
							onChange={(e) => setCode(e.currentTarget.value)}
						/>
					)}
					<Button type="submit" loading={signIn.isPending}>
						<Trans>Sign in</Trans>
					</Button>
					<OtherWays of="console" onDone={done} />
				</Stack>
			</form>
		</main>
	);
}
