import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, PasswordInput, Stack, Table, Text, TextInput } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { setup } from "../api/setup";
import { useAsk } from "../parts/ask";
import { Editor } from "../parts/editor";
import { title, words } from "../parts/fields";
import { Heading } from "../parts/heading";
import { useMayChange } from "../parts/may";
import { Failed, Loading, Nothing } from "../parts/states";
import { When } from "../parts/when";

/** What concerns the server as a whole. */
export function ServicePage() {
	const list = useQuery({ queryKey: ["setup", "service"], queryFn: () => setup.list("service") });
	const [open, setOpen] = useState(false);
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the server's settings`} />;
	}
	const { fields, items } = list.data;
	const item = items[0];
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Heading>
					<Trans>Server</Trans>
				</Heading>
				<Button size="xs" onClick={() => setOpen(true)}>
					<Trans>Change</Trans>
				</Button>
			</Group>
			<div className="surface">
				<Table verticalSpacing={5} horizontalSpacing="sm">
					<Table.Tbody>
						{fields.map((f) => (
							<Table.Tr key={f.name}>
								<Table.Td w={220} fw={600}>
									{title(f.name)}
								</Table.Td>
								<Table.Td>
									{words(item?.fields[f.name]) || (
										<Text span size="sm" c="dimmed">
											{f.default ? t`${f.default}, the default` : t`not given`}
										</Text>
									)}
								</Table.Td>
								<Table.Td c="dimmed">{f.doc}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</div>
			{item && (
				<Editor
					opened={open}
					onClose={() => setOpen(false)}
					title={t`Server`}
					fields={fields}
					seen={{ fields: item.fields, mark: item.mark }}
					now={async () => (await setup.list("service")).items[0]}
					note={t`Saved changes collect in the draft. They count when it is applied.`}
					check={(v, mark) => setup.set("service", "service", v, mark, true)}
					save={(v, mark) => setup.set("service", "service", v, mark)}
				/>
			)}
		</Stack>
	);
}

/** Passwords for others' servers: names only, never values. */
export function SecretsPage() {
	const list = useQuery({ queryKey: ["secrets"], queryFn: setup.secrets });
	const client = useQueryClient();
	const may = useMayChange();
	const [asking, ask] = useAsk();
	const [name, setName] = useState("");
	const [value, setValue] = useState("");
	const act = useMutation({
		mutationFn: (f: () => Promise<void>) => f(),
		onSuccess: () => {
			setName("");
			setValue("");
			void client.invalidateQueries();
		},
		onError: (e) => notifications.show({ color: "buoy", title: t`Not kept`, message: e.message }),
	});
	if (!list.data) {
		return list.error ? <Failed error={list.error} /> : <Loading what={t`the names`} />;
	}
	return (
		<Stack gap="sm">
			{asking}
			<div>
				<Heading>
					<Trans>Secrets</Trans>
				</Heading>
				<Text size="sm" c="dimmed">
					<Trans>
						Passwords for others' servers, encrypted under the service's key file. A route names one in its sign-in.
						They take effect immediately and cannot be read back.
					</Trans>
				</Text>
			</div>
			<div className="surface">
				{list.data.items.length === 0 ? (
					<Nothing title={t`No password is kept`}>
						<Trans>Keep the one that your provider's smart host asks for.</Trans>
					</Nothing>
				) : (
					<Table verticalSpacing={5} horizontalSpacing="sm">
						<Table.Tbody>
							{list.data.items.map((s) => (
								<Table.Tr key={s.name}>
									<Table.Td fw={600}>{s.name}</Table.Td>
									<Table.Td c="dimmed">
										<Trans>
											set <When time={s.changed_at} /> by {s.who}
										</Trans>
									</Table.Td>
									<Table.Td ta="right">
										<Button
											size="compact-xs"
											variant="subtle"
											color="buoy"
											disabled={!may}
											onClick={() =>
												ask({
													title: t`Forget the password ${s.name}?`,
													text: t`It cannot be read back. Routes that sign in with it defer their mail until another is kept under this name.`,
													yes: t`Forget it`,
													act: () => act.mutate(() => setup.removeSecret(s.name)),
												})
											}
										>
											<Trans>Forget</Trans>
										</Button>
									</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				)}
			</div>
			<form
				onSubmit={(e) => {
					e.preventDefault();
					act.mutate(() => setup.setSecret(name, value));
				}}
			>
				<Group align="end" gap="xs">
					<TextInput
						size="xs"
						label={t`Name`}
						placeholder={t`harbourlight`}
						value={name}
						onChange={(e) => setName(e.currentTarget.value)}
					/>
					<PasswordInput
						size="xs"
						w={240}
						label={t`Password`}
						autoComplete="new-password"
						value={value}
						onChange={(e) => setValue(e.currentTarget.value)}
					/>
					<Button size="xs" type="submit" disabled={!may || !name || !value} loading={act.isPending}>
						<Trans>Keep it</Trans>
					</Button>
				</Group>
			</form>
		</Stack>
	);
}
