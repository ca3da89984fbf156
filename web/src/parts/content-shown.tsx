import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Code, Table, Text } from "@mantine/core";
import type { ContentView } from "../api/boxes";
import { octets } from "./text";

/** ContentShown shows one side of a message: its text, header or structure. Nothing in it acts. */
export function ContentShown({ message, view }: { message: ContentView; view: string }) {
	return (
		<>
			{view === "text" && (
				<>
					<Text size="xs" c="dimmed">
						{message.text_type === "text/html"
							? t`The words of its HTML; nothing in it is run or fetched.`
							: message.text_type || t`It holds no text.`}
					</Text>
					<Code block style={{ whiteSpace: "pre-wrap", maxHeight: 420, overflow: "auto" }}>
						{message.text}
					</Code>
				</>
			)}
			{view === "raw" && (
				<Code block style={{ whiteSpace: "pre-wrap", overflowWrap: "anywhere", maxHeight: 420, overflow: "auto" }}>
					{message.header}
				</Code>
			)}
			{view === "fields" && (
				<Table verticalSpacing={3}>
					<Table.Tbody>
						{message.fields.map((f, i) => (
							// biome-ignore lint/suspicious/noArrayIndexKey: fields may repeat, and never change
							<Table.Tr key={i} style={{ verticalAlign: "top" }}>
								<Table.Td w={180} fw={600}>
									{f.name}
								</Table.Td>
								<Table.Td className="mono" style={{ overflowWrap: "anywhere" }}>
									{f.value}
								</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			)}
			{view === "parts" && (
				<Table verticalSpacing={3}>
					<Table.Thead>
						<Table.Tr>
							<Table.Th w={70}>
								<Trans>Part</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Type</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Name</Trans>
							</Table.Th>
							<Table.Th>
								<Trans>Encoding</Trans>
							</Table.Th>
							<Table.Th ta="right">
								<Trans>Size</Trans>
							</Table.Th>
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{message.parts.map((p) => (
							<Table.Tr key={p.path}>
								<Table.Td>{p.path}</Table.Td>
								<Table.Td>
									{p.type} {p.charset}
								</Table.Td>
								<Table.Td>{p.name || p.disposition || "–"}</Table.Td>
								<Table.Td>{p.encoding || "–"}</Table.Td>
								<Table.Td ta="right">{octets(p.size)}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			)}
			{message.truncated && view !== "" && (
				<Text size="xs" c="dimmed">
					<Trans>There is more than is shown; download the .eml for all of it.</Trans>
				</Text>
			)}
		</>
	);
}
