import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Button, Code, CopyButton, Drawer, Group, Stack, Table, Text, Title } from "@mantine/core";
import { useLocation } from "@tanstack/react-router";
import { To } from "../parts/to";
import { helps } from "./page-helps";
import { pageOf } from "./pages";

const keys: [string, string][] = [
	["/", t`find a message`],
	[t`Ctrl-K`, t`go anywhere: pages, lanes, items, mailboxes`],
	["?", t`this help`],
	["t", t`times as such, or as so long ago`],
	["l", t`to the list of the page`],
	["↓ ↑ ← →", t`move in a list; Page Up and Down, Home, End`],
	[t`Enter`, t`open what is marked`],
	[t`Space, Ctrl-A`, t`choose the row, all that match`],
	["a", t`in the queue: what can be done with what is chosen`],
	["c", t`copy the marked cell`],
	["z", t`take the last action back, while its notice stands`],
];

/** Help says of a page what it is for, its keys, and the same by command. */
export default function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
	const at = useLocation();
	const page = pageOf(at.pathname);
	const help = page && helps[page.to];
	const command = help?.command(at.search as Record<string, string>) ?? "gull help";
	return (
		<Drawer opened={open} onClose={onClose} position="right" title={page?.label ?? t`Help`} size="md">
			<Stack gap="md">
				<Text size="sm">{help?.about}</Text>
				<div>
					<Title order={2} size="h5" mb={4}>
						<Trans>The same by command</Trans>
					</Title>
					<Group gap="xs" wrap="nowrap">
						<Code className="mono" style={{ flex: 1 }}>
							{command}
						</Code>
						<CopyButton value={command}>
							{({ copied, copy }) => (
								<Button size="compact-xs" variant="default" onClick={copy}>
									{copied ? t`Copied` : t`Copy`}
								</Button>
							)}
						</CopyButton>
					</Group>
				</div>
				<div>
					<Title order={2} size="h5" mb={4}>
						<Trans>Keys</Trans>
					</Title>
					<Table verticalSpacing={3} fz="sm">
						<Table.Tbody>
							{keys.map(([key, does]) => (
								<Table.Tr key={key}>
									<Table.Td w={120}>
										<Code>{key}</Code>
									</Table.Td>
									<Table.Td>{does}</Table.Td>
								</Table.Tr>
							))}
						</Table.Tbody>
					</Table>
				</div>
				<To to="/terms" size="sm" onClick={onClose}>
					<Trans>What our terms mean</Trans>
				</To>
			</Stack>
		</Drawer>
	);
}
