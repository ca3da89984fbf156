import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Stack, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { people } from "../api/people";
import { Heading } from "../parts/heading";
import { PasskeysForm } from "../parts/passkeys";
import { PasswordForm } from "../parts/password";
import { PersonSessions } from "../parts/person-sessions";
import { SecondFactorForm } from "../parts/second-factor";
import { Failed, Loading } from "../parts/states";

/** One's own password and sessions. */
export function AccountPage() {
	const client = useQueryClient();
	const list = useQuery({ queryKey: ["own-sessions"], queryFn: people.ownSessions });
	const end = useMutation({
		mutationFn: people.endOwn,
		onSettled: () => client.invalidateQueries({ queryKey: ["own-sessions"] }),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not ended`, message: e.message }),
	});
	return (
		<Stack gap="sm">
			<Heading>
				<Trans>Your account</Trans>
			</Heading>
			<section className="surface" aria-labelledby="password">
				<Stack gap="xs" p="sm">
					<Title order={2} size="h5" id="password">
						<Trans>Password</Trans>
					</Title>
					<PasswordForm
						onDone={() => {
							notifications.show({ color: "kelp", message: t`Your password is changed.` });
							void client.invalidateQueries({ queryKey: ["own-sessions"] });
						}}
					/>
				</Stack>
			</section>
			<section className="surface" aria-labelledby="second">
				<Stack gap="xs" p="sm">
					<Title order={2} size="h5" id="second">
						<Trans>Second factor</Trans>
					</Title>
					<SecondFactorForm />
				</Stack>
			</section>
			<section className="surface" aria-labelledby="passkeys">
				<Stack gap="xs" p="sm">
					<Title order={2} size="h5" id="passkeys">
						<Trans>Passkeys</Trans>
					</Title>
					<PasskeysForm />
				</Stack>
			</section>
			<section className="surface" aria-labelledby="sessions">
				<Title order={2} size="h5" id="sessions" p="sm" pb={4}>
					<Trans>Your open sessions</Trans>
				</Title>
				{list.data ? (
					<PersonSessions items={list.data.items} onEnd={(id) => end.mutate(id)} />
				) : list.error ? (
					<Failed error={list.error} />
				) : (
					<Loading what={t`your sessions`} />
				)}
			</section>
		</Stack>
	);
}
