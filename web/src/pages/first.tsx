import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, PasswordInput, Stack, Text, TextInput, Title } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { gull } from "../api/client";
import { people } from "../api/people";
import { PasskeysForm } from "../parts/passkeys";
import { PasswordForm } from "../parts/password";
import { SecondFactorForm } from "../parts/second-factor";
import classes from "./sign-in.module.css";

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

/** Where a second factor is asked for, whoever has none sets one up before anything else. */
export function FirstSecond({ name, onDone }: { name: string; onDone: () => void }) {
	return (
		<main className={classes.page}>
			<div className={classes.card} style={{ width: 620, maxWidth: "100%" }}>
				<Stack gap="sm">
					<div>
						<Title order={1} size="h2">
							<Trans>One thing more, {name}</Trans>
						</Title>
						<Text size="sm" c="dimmed">
							<Trans>
								This server asks for a second factor besides the password. Set up codes of a telephone, or a passkey,
								and go on.
							</Trans>
						</Text>
					</div>
					<Title order={2} size="h5">
						<Trans>Codes of a telephone</Trans>
					</Title>
					<SecondFactorForm />
					<Title order={2} size="h5">
						<Trans>Or a passkey</Trans>
					</Title>
					<PasskeysForm />
					<Button variant="default" onClick={onDone}>
						<Trans>Go on</Trans>
					</Button>
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
