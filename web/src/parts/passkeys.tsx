import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Group, PasswordInput, Stack, Table, Text, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { passkeys, passkeysWork, Turned } from "../api/passkeys";
import { Codes } from "./recovery-codes";
import { Failed, Loading } from "./states";
import { When } from "./when";

/** Keys in telephones, computers and sticks with which one signs in without a password. */
export function PasskeysForm() {
	const client = useQueryClient();
	const list = useQuery({ queryKey: ["passkeys"], queryFn: passkeys.list });
	const ways = useQuery({ queryKey: ["sign-in-ways"], queryFn: passkeys.ways });
	const [name, setName] = useState("");
	const [password, setPassword] = useState("");
	const [codes, setCodes] = useState<string[]>([]);
	const again = () => {
		setPassword("");
		for (const key of ["passkeys", "second-factor", "me"]) {
			void client.invalidateQueries({ queryKey: [key] });
		}
	};
	const add = useMutation({
		mutationFn: () => passkeys.add(name, password),
		onSuccess: (made) => {
			setName("");
			setCodes(made.codes ?? []);
			again();
		},
	});
	const remove = useMutation({
		mutationFn: (id: string) => passkeys.remove(id, password),
		onSuccess: () => {
			setCodes([]);
			again();
		},
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`your passkeys`} />;
	}
	const fault = add.error ?? remove.error;
	const works = passkeysWork();
	return (
		<Stack gap="xs" maw={560}>
			<Text size="sm">
				<Trans>
					A key in your telephone, your computer or a stick. It opens this server without a password, and no false page
					can ask it out of you.
				</Trans>
			</Text>
			{fault && (
				<Alert color="buoy" role="alert" p="xs">
					{fault instanceof Turned ? t`No passkey was made.` : fault.message}
				</Alert>
			)}
			<Codes codes={codes} />
			{list.data.items.length > 0 && (
				<Table verticalSpacing={4}>
					<Table.Thead>
						<Table.Tr>
							<Table.Th>
								<Trans>Name</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Made</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Last sign-in</Trans>
							</Table.Th>
							<Table.Td />
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{list.data.items.map((p) => (
							<Table.Tr key={p.id}>
								<Table.Td fw={600}>{p.name}</Table.Td>
								<Table.Td>
									<When time={p.made_at} />
								</Table.Td>
								<Table.Td>{p.last_at ? <When time={p.last_at} /> : t`never`}</Table.Td>
								<Table.Td ta="right">
									<Button
										size="compact-xs"
										variant="subtle"
										color="buoy"
										aria-label={t`Take the passkey ${p.name} away`}
										disabled={!password}
										onClick={() => remove.mutate(p.id)}
									>
										<Trans>Take away</Trans>
									</Button>
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			)}
			{!works && ways.data && (
				<Text size="sm" c="dimmed">
					<Trans>Passkeys belong to a host name: open the console at {ways.data.link} to make one.</Trans>
				</Text>
			)}
			<form
				onSubmit={(e) => {
					e.preventDefault();
					add.mutate();
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
					<TextInput
						size="xs"
						w={160}
						label={t`What you call it`}
						placeholder={t`telephone`}
						value={name}
						onChange={(e) => setName(e.currentTarget.value)}
					/>
					<Button size="xs" type="submit" disabled={!password || !works} loading={add.isPending}>
						<Trans>Make a passkey</Trans>
					</Button>
				</Group>
			</form>
		</Stack>
	);
}
