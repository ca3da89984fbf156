import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, PasswordInput, Stack, Text, TextInput, Title } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { gull } from "../api/client";
import { people } from "../api/people";
import { PasswordForm } from "../parts/password";
import classes from "./sign-in.module.css";

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
	const signIn = useMutation({
		mutationFn: () => gull.signIn(name, password, code || undefined),
		onSuccess: () => (again ? client.invalidateQueries() : client.resetQueries()),
		onError: (e) => e.message.includes("second factor is needed") && setAsked(true),
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
					{signIn.error && (
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
							description={t`From your telephone, or one for recovery.`}
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
				</Stack>
			</form>
		</main>
	);
}

/** Whoever got a password from somebody else chooses one of his own before anything else. */
export function FirstPassword({ name, onDone }: { name: string; onDone: () => void }) {
	return (
		<main className={classes.page}>
			<div className={classes.card}>
				<Stack gap="sm">
					<img src="/gull.svg" alt="" width={44} height={44} />
					<div>
						<Title order={1} size="h2">
							<Trans>Welcome, {name}</Trans>
						</Title>
						<Text size="sm" c="dimmed">
							<Trans>Somebody else knows the password that you signed in with. Choose one of your own.</Trans>
						</Text>
					</div>
					<PasswordForm onDone={onDone} />
				</Stack>
			</div>
		</main>
	);
}

/** Makes the first administrator, by the link that the service said. */
export function FirstOperator({ onDone }: { onDone: () => void }) {
	const [name, setName] = useState("");
	const [password, setPassword] = useState("");
	const [again, setAgain] = useState("");
	const make = useMutation({
		mutationFn: async () => {
			await people.first(window.location.hash.slice(1), name, password);
			await gull.signIn(name, password);
		},
		onSuccess: () => {
			window.history.replaceState(null, "", "/setup");
			onDone();
		},
	});
	return (
		<main className={classes.page}>
			<form
				className={classes.card}
				onSubmit={(e) => {
					e.preventDefault();
					make.mutate();
				}}
			>
				<Stack gap="sm">
					<img src="/gull.svg" alt="" width={44} height={44} />
					<div>
						<Title order={1} size="h2">
							<Trans>The first administrator</Trans>
						</Title>
						<Text size="sm" c="dimmed">
							<Trans>Nobody administers this server yet. Whoever signs up here may do everything.</Trans>
						</Text>
					</div>
					{make.error && (
						<Alert color="buoy" role="alert" p="xs">
							{make.error.message}
						</Alert>
					)}
					<TextInput
						label={t`Name`}
						placeholder="keeper"
						autoComplete="username"
						required
						autoFocus
						value={name}
						onChange={(e) => setName(e.currentTarget.value)}
					/>
					<PasswordInput
						label={t`Password`}
						description={t`At least 10 characters that nobody guesses: a few words that do not belong together do.`}
						autoComplete="new-password"
						required
						value={password}
						onChange={(e) => setPassword(e.currentTarget.value)}
					/>
					<PasswordInput
						label={t`Once more`}
						autoComplete="new-password"
						required
						error={again !== "" && again !== password && t`It is not the same.`}
						value={again}
						onChange={(e) => setAgain(e.currentTarget.value)}
					/>
					<Button type="submit" disabled={!name || !password || again !== password} loading={make.isPending}>
						<Trans>Begin</Trans>
					</Button>
				</Stack>
			</form>
		</main>
	);
}
