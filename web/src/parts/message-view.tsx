import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
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
					<Trans>The message</Trans>
				</Title>
				<SegmentedControl
					size="xs"
					w="fit-content"
					aria-label={t`What of the message`}
					value={view}
					onChange={setView}
					data={[
						{ value: "", label: t`Hidden` },
						{ value: "text", label: t`Text` },
						{ value: "fields", label: t`Header` },
						{ value: "raw", label: t`Header as received` },
						{ value: "parts", label: t`Structure` },
					]}
				/>
				{view !== "" &&
					!message.data &&
					(message.error ? <Failed error={message.error} /> : <Loading what={t`the message`} />)}
				{message.data && view === "text" && (
					<>
						<Text size="xs" c="dimmed">
							{message.data.text_type === "text/html"
								? t`The words of its HTML; nothing in it is run or fetched.`
								: message.data.text_type || t`It holds no text.`}
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
						<Trans>There is more than is shown; download the .eml for all of it.</Trans>
					</Text>
				)}
			</Stack>
		</section>
	);
}
