import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Code, Group, PasswordInput, Stack, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { people, type SecondFactor } from "../api/people";
import { Codes } from "./recovery-codes";
import { Failed, Loading } from "./states";

/** A code from one's telephone besides the password: set up, confirmed, taken away. */
export function SecondFactorForm() {
	const client = useQueryClient();
	const now = useQuery({ queryKey: ["second-factor"], queryFn: people.second });
	const [password, setPassword] = useState("");
	const [begun, setBegun] = useState<SecondFactor | null>(null);
	const [code, setCode] = useState("");
	const [recovery, setRecovery] = useState<string[]>([]);
	const again = () => void client.invalidateQueries({ queryKey: ["second-factor"] });
	const begin = useMutation({
		mutationFn: () => people.beginSecond(password),
		onSuccess: (x) => {
			setBegun(x);
			setPassword("");
		},
	});
	const confirm = useMutation({
		mutationFn: () => people.confirmSecond(code),
		onSuccess: (x) => {
			setRecovery(x.codes);
			setBegun(null);
			setCode("");
			again();
		},
	});
	const remove = useMutation({
		mutationFn: () => people.removeSecond(password),
		onSuccess: () => {
			setPassword("");
			setRecovery([]);
			notifications.show({ message: t`You sign in with your password alone.` });
			again();
		},
	});
	if (!now.data) {
		return now.error ? <Failed error={now.error} /> : <Loading what={t`your second factor`} />;
	}
	const fault = begin.error ?? confirm.error ?? remove.error;
	const on = now.data.on;
	return (
		<Stack gap="xs" maw={420}>
			<Text size="sm">
				{on ? (
					<Trans>It is on. {now.data.recovery_codes} recovery codes are left.</Trans>
				) : (
					<Trans>A code from your telephone besides the password: a stolen password opens nothing then.</Trans>
				)}
			</Text>
			{fault && (
				<Alert color="buoy" role="alert" p="xs">
					{fault.message}
				</Alert>
			)}
			<Codes codes={recovery} />
			{begun ? (
				<form
					onSubmit={(e) => {
						e.preventDefault();
						confirm.mutate();
					}}
				>
					<Stack gap="xs">
						<Text size="sm">
							<Trans>
								Look at the picture with a program on your telephone that makes codes, or type the secret into it.
							</Trans>
						</Text>
						{begun.picture && (
							<img src={begun.picture} alt={t`The secret, for a telephone to look at`} width={220} height={220} />
						)}
						<Code style={{ overflowWrap: "anywhere" }}>{begun.secret}</Code>
						<Group align="end" gap="xs">
							<TextInput
								size="xs"
								label={t`Its first code`}
								autoComplete="one-time-code"
								value={code}
								onChange={(e) => setCode(e.currentTarget.value)}
							/>
							<Button size="xs" type="submit" disabled={code.length < 6} loading={confirm.isPending}>
								<Trans>Turn it on</Trans>
							</Button>
						</Group>
					</Stack>
				</form>
			) : (
				<form
					onSubmit={(e) => {
						e.preventDefault();
						(on ? remove : begin).mutate();
					}}
				>
					<Group align="end" gap="xs">
						<PasswordInput
							size="xs"
							w={220}
							label={t`Your password`}
							autoComplete="current-password"
							value={password}
							onChange={(e) => setPassword(e.currentTarget.value)}
						/>
						<Button
							size="xs"
							type="submit"
							variant={on ? "default" : "filled"}
							disabled={!password}
							loading={begin.isPending || remove.isPending}
						>
							{on ? t`Take it away` : t`Set it up`}
						</Button>
					</Group>
				</form>
			)}
		</Stack>
	);
}
