import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Code, Group, Stack, Table, Text, TextInput, Title } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { AppPassword, NewAppPassword } from "../api/boxes";
import { When } from "./when";

export const protocols: Record<string, string> = { submission: t`sent`, imap: "IMAP", pop3: "POP3" };

/** AppPasswords lists the passwords of a mailbox's programs, makes new ones and takes them away. */
export function AppPasswords(p: {
	items: AppPassword[];
	may: boolean;
	add: (name: string) => Promise<NewAppPassword>;
	revoke: (name: string) => Promise<void>;
	onChange: () => void;
}) {
	const [name, setName] = useState("");
	const add = useMutation({
		mutationFn: () => p.add(name.trim()),
		onSuccess: () => setName(""),
		onSettled: p.onChange,
	});
	const revoke = useMutation({ mutationFn: p.revoke, onSettled: p.onChange });
	const fault = add.error ?? revoke.error;
	return (
		<section className="surface" aria-labelledby="apps">
			<Stack gap="xs" p="sm">
				<Title order={2} size="h5" id="apps">
					<Trans>App passwords</Trans>
				</Title>
				<Text size="sm" c="dimmed">
					<Trans>
						One for each program, so that a lost phone costs one password and not all. Revoking one ends its sessions at
						once.
					</Trans>
				</Text>
				{add.data && (
					<Alert
						color="kelp"
						title={t`The password for ${add.data.name}, shown this once`}
						onClose={add.reset}
						withCloseButton
						closeButtonLabel={t`Close`}
					>
						<Code fz="md">{add.data.password}</Code>
					</Alert>
				)}
				{fault && (
					<Alert color="buoy" role="alert">
						{fault.message}
					</Alert>
				)}
				{revoke.isSuccess && (
					<Text size="sm" role="status">
						<Trans>It is revoked; its sessions have ended.</Trans>
					</Text>
				)}
				{p.items.length > 0 && (
					<Table verticalSpacing={4}>
						<Table.Thead>
							<Table.Tr>
								<Table.Th>
									<Trans>Program</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Made</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Last use</Trans>
								</Table.Th>
								<Table.Th>
									<Trans>Take away</Trans>
								</Table.Th>
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{p.items.map((a) => (
								<Table.Tr key={a.name}>
									<Table.Td>{a.name}</Table.Td>
									<Table.Td>
										<When time={a.created_at} /> <Trans>by {a.who}</Trans>
									</Table.Td>
									<Table.Td>
										{a.used_at ? (
											<>
												<When time={a.used_at} /> {protocols[a.used_by]} <Trans>from {a.client}</Trans>
											</>
										) : (
											<Trans>never</Trans>
										)}
									</Table.Td>
									<Table.Td>
										<Button
											size="compact-xs"
											variant="default"
											disabled={!p.may}
											aria-label={t`Revoke ${a.name}`}
											onClick={() => revoke.mutate(a.name)}
										>
											<Trans>Revoke</Trans>
										</Button>
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				)}
				<form
					onSubmit={(e) => {
						e.preventDefault();
						add.mutate();
					}}
				>
					<Group gap="xs" align="end">
						<TextInput
							size="xs"
							label={t`Program`}
							placeholder={t`phone`}
							value={name}
							onChange={(e) => setName(e.currentTarget.value)}
							maxLength={60}
							required
							disabled={!p.may}
						/>
						<Button size="xs" type="submit" disabled={!p.may || name.trim() === ""} loading={add.isPending}>
							<Trans>Make a password</Trans>
						</Button>
					</Group>
				</form>
			</Stack>
		</section>
	);
}
