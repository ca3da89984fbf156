import { Button, Code, CopyButton, Drawer, Group, Stack, Table, Text, Title } from "@mantine/core";
import { useLocation } from "@tanstack/react-router";
import { To } from "../parts/to";
import { pageOf } from "./pages";

const keys: [string, string][] = [
	["/", "find a message"],
	["Ctrl-K", "go anywhere: pages, lanes, items, mailboxes"],
	["?", "this help"],
	["t", "times as such, or as so long ago"],
	["l", "to the list of the page"],
	["↓ ↑ ← →", "move in a list; Page Up and Down, Home, End"],
	["Enter", "open what is marked"],
	["Space, Ctrl-A", "choose the row, all that match"],
	["a", "in the queue: what can be done with what is chosen"],
	["c", "copy the marked cell"],
	["z", "take the last action back, while its notice stands"],
];

/** Help says of a page what it is for, its keys, and the same by command. */
export default function Help({ open, onClose }: { open: boolean; onClose: () => void }) {
	const at = useLocation();
	const page = pageOf(at.pathname);
	const command = page?.command(at.search as Record<string, string>) ?? "gull help";
	return (
		<Drawer opened={open} onClose={onClose} position="right" title={page?.label ?? "Help"} size="md">
			<Stack gap="md">
				<Text size="sm">{page?.about}</Text>
				<div>
					<Title order={2} size="h5" mb={4}>
						The same by command
					</Title>
					<Group gap="xs" wrap="nowrap">
						<Code className="mono" style={{ flex: 1 }}>
							{command}
						</Code>
						<CopyButton value={command}>
							{({ copied, copy }) => (
								<Button size="compact-xs" variant="default" onClick={copy}>
									{copied ? "Copied" : "Copy"}
								</Button>
							)}
						</CopyButton>
					</Group>
				</div>
				<div>
					<Title order={2} size="h5" mb={4}>
						Keys
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
					What our terms mean
				</To>
			</Stack>
		</Drawer>
	);
}
