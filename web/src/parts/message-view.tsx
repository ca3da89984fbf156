import { Code, SegmentedControl, Stack, Table, Text, Title } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { queue } from "../api/queue";
import { Failed, Loading } from "./states";
import { octets } from "./text";

/** MessageView shows a message's text, header and structure. Nothing in it is run or fetched. */
export function MessageView({ id }: { id: string }) {
	const view = useSearch({ from: "/messages/$id" }).message ?? "";
	const navigate = useNavigate();
	const setView = (message: string) =>
		void navigate({
			to: "/messages/$id",
			params: { id },
			search: { message: message || undefined },
			replace: true,
			resetScroll: false,
		});
	const message = useQuery({
		queryKey: ["message-view", id],
		queryFn: () => queue.view(id),
		enabled: view !== "",
		staleTime: Number.POSITIVE_INFINITY,
		refetchInterval: false,
	});
	return (
		<section className="surface" aria-labelledby="message">
			<Stack gap="xs" p="sm">
				<Title order={2} size="h5" id="message">
					The message
				</Title>
				<SegmentedControl
					size="xs"
					w="fit-content"
					aria-label="What of the message"
					value={view}
					onChange={setView}
					data={[
						{ value: "", label: "Hidden" },
						{ value: "text", label: "Text" },
						{ value: "fields", label: "Header" },
						{ value: "raw", label: "Header as received" },
						{ value: "parts", label: "Structure" },
					]}
				/>
				{view !== "" &&
					!message.data &&
					(message.error ? <Failed error={message.error} /> : <Loading what="the message" />)}
				{message.data && view === "text" && (
					<>
						<Text size="xs" c="dimmed">
							{message.data.text_type === "text/html"
								? "The words of its HTML; nothing in it is run or fetched."
								: message.data.text_type || "It holds no text."}
						</Text>
						<Code block style={{ whiteSpace: "pre-wrap", maxHeight: 420, overflow: "auto" }}>
							{message.data.text}
						</Code>
					</>
				)}
				{message.data && view === "raw" && (
					<Code block style={{ whiteSpace: "pre-wrap", overflowWrap: "anywhere", maxHeight: 420, overflow: "auto" }}>
						{message.data.header}
					</Code>
				)}
				{message.data && view === "fields" && (
					<Table verticalSpacing={3}>
						<Table.Tbody>
							{message.data.fields.map((f, i) => (
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
				{message.data && view === "parts" && (
					<Table verticalSpacing={3}>
						<Table.Thead>
							<Table.Tr>
								<Table.Th w={70}>Part</Table.Th>
								<Table.Th>Type</Table.Th>
								<Table.Th>Name</Table.Th>
								<Table.Th>Encoding</Table.Th>
								<Table.Th ta="right">Size</Table.Th>
							</Table.Tr>
						</Table.Thead>
						<Table.Tbody>
							{message.data.parts.map((p) => (
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
				{message.data?.truncated && view !== "" && (
					<Text size="xs" c="dimmed">
						There is more than is shown; download the .eml for all of it.
					</Text>
				)}
			</Stack>
		</section>
	);
}
