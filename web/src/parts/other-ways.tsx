import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Text } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { passkeys, passkeysWork, Turned } from "../api/passkeys";

/** Why single sign-on let somebody not in, by the word in the address. */
function why(word: string): string {
	switch (word) {
		case "no-role":
			return t`The provider gives you no role here. Ask whoever administers this server.`;
		case "taken":
			return t`Somebody else has your name here. Ask whoever administers this server.`;
		case "switched-off":
			return t`You are switched off here. Ask whoever administers this server.`;
		case "no-mailbox":
			return t`The provider names no mailbox of yours here.`;
		case "late":
			return t`It took too long, or began in another window. Try again.`;
		case "away":
			return t`The provider does not answer. Sign in with a password, or try again later.`;
		case "no":
			return t`The provider let you not in.`;
		default:
			return t`Single sign-on failed. The log of the service says why.`;
	}
}

/** Says why single sign-on let somebody not in, if it sent him here. */
export function NotLetIn() {
	const refused = new URLSearchParams(window.location.search).get("single-sign-on");
	return refused ? (
		<Alert color="buoy" role="alert" p="xs">
			{why(refused)}
		</Alert>
	) : null;
}

/** The ways to sign in besides a password: at the provider, and by a passkey. */
export function OtherWays({ of, onDone }: { of: "console" | "mailbox"; onDone: () => void }) {
	const ways = useQuery({ queryKey: ["sign-in-ways"], queryFn: passkeys.ways, retry: false });
	const byKey = useMutation({ mutationFn: passkeys.signIn, onSuccess: onDone });
	const provider = of === "console" || ways.data?.mailboxes ? ways.data?.single_sign_on : undefined;
	const keys = of === "console" && passkeysWork();
	return (
		<>
			{byKey.error && !(byKey.error instanceof Turned) && (
				<Alert color="buoy" role="alert" p="xs">
					{byKey.error.message}
				</Alert>
			)}
			{byKey.error instanceof Turned && (
				<Text size="sm" role="status">
					<Trans>No passkey was chosen.</Trans>
				</Text>
			)}
			{provider && (
				<Button component="a" href={`/api/v1/single-sign-on?for=${of}`} variant="default">
					<Trans>Sign in by {provider}</Trans>
				</Button>
			)}
			{keys && (
				<Button variant="default" loading={byKey.isPending} onClick={() => byKey.mutate()}>
					<Trans>Use a passkey</Trans>
				</Button>
			)}
		</>
	);
}
