import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Group, Table, Text, TextInput, Title } from "@mantine/core";
import { notifications } from "@mantine/notifications";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type GoneMailbox, setup } from "../api/setup";
import { octets, plural } from "./text";
import { When } from "./when";

/** Mailboxes that were taken out, while their mail is kept; nothing where there are none. */
export function Gone({ may }: { may: boolean }) {
	const list = useQuery({ queryKey: ["mailboxes", "removed"], queryFn: setup.removed });
	if (!list.data?.items.length) {
		return null;
	}
	return (
		<section className="surface" aria-labelledby="removed">
			<Title order={2} size="h5" id="removed" p="sm" pb={4}>
				<Trans>Removed mailboxes</Trans>
			</Title>
			<Table.ScrollContainer minWidth={640}>
				<Table verticalSpacing={4} horizontalSpacing="sm">
					<Table.Tbody>
						{list.data.items.map((m) => (
							<Row key={m.address + m.removed_at} mailbox={m} may={may} />
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

function Row({ mailbox: m, may }: { mailbox: GoneMailbox; may: boolean }) {
	const client = useQueryClient();
	const [as, setAs] = useState("");
	const back = useMutation({
		mutationFn: () => setup.giveBack(m.address, as || undefined),
		onSuccess: (given) => notifications.show({ color: "kelp", message: t`${given.address} is given back.` }),
		onError: (e) => notifications.show({ color: "buoy", title: t`Not given back`, message: e.message }),
		onSettled: () => client.invalidateQueries({ queryKey: ["mailboxes"] }),
	});
	return (
		<Table.Tr>
			<Table.Td fw={600}>{m.address}</Table.Td>
			<Table.Td>
				<Trans>
					removed <When time={m.removed_at} />
				</Trans>
				{m.by && t` by ${m.by}`}
			</Table.Td>
			<Table.Td>
				{plural(m.messages, t`message`, t`messages`)}, {octets(m.octets)}
			</Table.Td>
			<Table.Td>
				<Text size="sm" c="dimmed">
					<Trans>
						gone for good <When time={m.ends_at} />
					</Trans>
				</Text>
			</Table.Td>
			<Table.Td>
				<Group gap={6} justify="flex-end" wrap="nowrap">
					{m.taken && (
						<TextInput
							size="xs"
							w={240}
							aria-label={t`Another address for ${m.address}`}
							placeholder={t`another address: it is somebody's`}
							value={as}
							onChange={(e) => setAs(e.currentTarget.value)}
						/>
					)}
					<Button
						size="compact-xs"
						variant="subtle"
						aria-label={t`Give ${m.address} back`}
						disabled={!may || (m.taken && !as)}
						loading={back.isPending}
						onClick={() => back.mutate()}
					>
						<Trans>Give back</Trans>
					</Button>
				</Group>
			</Table.Td>
		</Table.Tr>
	);
}
