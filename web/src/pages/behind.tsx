import { Anchor, Button, Group, Stack, Text, Title } from "@mantine/core";
import { IconArrowLeft, IconDownload } from "@tabler/icons-react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearch } from "@tanstack/react-router";
import { DataTable } from "mantine-datatable";
import { type Behind, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { State } from "../parts/state";
import { Failed, Loading, Nothing } from "../parts/states";
import { download, toCSV } from "../parts/table-file";
import { count, octets, shown, soft } from "../parts/text";
import { moment } from "../parts/time";
import { exact } from "../parts/when";

const pageSize = 200;

/** The messages behind a figure of a report. */
export function BehindPage() {
	const words = useSearch({ from: "/reports/messages" });
	const list = useInfiniteQuery({
		queryKey: ["behind", words],
		queryFn: ({ pageParam }) => tracing.behind(words, pageParam, pageSize),
		initialPageParam: "",
		getNextPageParam: (last) => last.next || undefined,
	});
	const items = list.data?.pages.flatMap((p) => p.items) ?? [];
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Title order={1} size="h3">
					{words.kind}
					{words.dim && words.dim !== "total" && (
						<>
							, {words.dim.replace("_", " ")} {words.value}
						</>
					)}
				</Title>
				<Group gap="xs">
					<Button
						size="xs"
						variant="default"
						component={Link}
						to="/reports"
						search={{ since: words.since, until: words.until, archive: words.archive } as never}
						leftSection={<IconArrowLeft size={14} />}
					>
						Report
					</Button>
					<Button
						size="xs"
						variant="default"
						leftSection={<IconDownload size={14} />}
						onClick={() => download("messages.csv", toCSV(items as unknown as Record<string, unknown>[]))}
					>
						CSV
					</Button>
				</Group>
			</Group>
			<ArchiveNote />
			<Text size="sm" c="dimmed">
				{words.since && exact(words.since)} to {words.until && exact(words.until)}.{" "}
				{list.data &&
					(list.hasNextPage ? `The first ${count(items.length)}; scroll for more.` : `${count(items.length)} in all.`)}
			</Text>
			{!list.data ? (
				list.error ? (
					<Failed error={list.error} />
				) : (
					<Loading what="the messages" />
				)
			) : (
				<div className="surface">
					{items.length === 0 ? (
						<Nothing title="Nothing is behind this figure">Messages are kept for less time than their counts.</Nothing>
					) : (
						<DataTable<Behind>
							records={items}
							idAccessor={(x) => `${x.message_id} ${x.delivery_id} ${x.refusal_id} ${x.at}`}
							verticalSpacing={4}
							withTableBorder={false}
							backgroundColor="var(--gull-surface)"
							height="calc(100vh - 190px)"
							fetching={list.isFetchingNextPage}
							onScrollToBottom={() => list.hasNextPage && void list.fetchNextPage()}
							columns={[
								{ accessor: "at", title: "When", width: 195, render: (x) => moment(x.at) },
								{ accessor: "kind", title: "What", width: 110, render: (x) => <State state={x.kind} /> },
								{
									accessor: "subject",
									title: "Subject",
									render: (x) => (
										<Anchor
											component={Link}
											to={x.refusal_id ? "/refusals/$id" : "/messages/$id"}
											params={{ id: x.refusal_id || x.message_id } as never}
											search={{ archive: words.archive } as never}
											inherit
										>
											{x.subject || (x.refusal_id ? "(refused)" : "(no subject)")}
										</Anchor>
									),
								},
								{
									accessor: "sender",
									title: "From",
									render: (x) => <span className="mono">{soft(shown(x.sender))}</span>,
								},
								{
									accessor: "recipient",
									title: "To",
									render: (x) => <span className="mono">{soft(x.recipient)}</span>,
								},
								{ accessor: "size", title: "Size", textAlign: "right", width: 80, render: (x) => octets(x.size) },
								{ accessor: "text", title: "Reply", render: (x) => <span className="mono">{x.text}</span> },
							]}
						/>
					)}
				</div>
			)}
		</Stack>
	);
}
