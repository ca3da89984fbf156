import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Group, Stack, Text } from "@mantine/core";
import { IconArrowLeft } from "@tabler/icons-react";
import { useSearch } from "@tanstack/react-router";
import { useMemo } from "react";
import { periodEnded } from "../api/past";
import { type Behind, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import type { Column } from "../parts/columns";
import { CSV } from "../parts/csv";
import { Heading } from "../parts/heading";
import { List } from "../parts/list";
import { usePages } from "../parts/pages";
import { RowTo } from "../parts/row-to";
import { State } from "../parts/state";
import { Nothing } from "../parts/states";
import { octets, shown } from "../parts/text";
import { moment } from "../parts/time";
import { ToButton } from "../parts/to";
import { exact } from "../parts/when";

/** The messages behind a figure of a report. */
export function BehindPage() {
	const words = useSearch({ from: "/reports/messages" });
	const pages = usePages(["behind", words], (after, limit) => tracing.behind(words, after, limit), {
		rowKey: behindKey,
		past: () => periodEnded(words, words.until),
	});
	const columns = useMemo(() => columnsOf(words.archive), [words.archive]);
	return (
		<Stack gap="sm">
			<Group justify="space-between">
				<Heading>
					{words.kind}
					{words.dim && words.dim !== "total" && (
						<>
							, {words.dim.replace("_", " ")} {words.value}
						</>
					)}
				</Heading>
				<Group gap="xs">
					<ToButton
						size="xs"
						variant="default"
						to="/reports"
						search={{ since: words.since, until: words.until, archive: words.archive }}
						leftSection={<IconArrowLeft size={14} />}
					>
						<Trans>Report</Trans>
					</ToButton>
				</Group>
			</Group>
			<ArchiveNote />
			<Text size="sm" c="dimmed">
				{words.since && t`from ${exact(words.since)} `}
				{words.until && t`to ${exact(words.until)}`}
				{!words.since && !words.until && t`All that is kept.`}
			</Text>
			<List
				name="behind"
				label={t`Messages behind the figure`}
				words={[t`line`, t`lines`]}
				columns={columns}
				pages={pages}
				rowKey={behindKey}
				opens={(x) => ({
					to: x.refusal_id ? "/refusals/$id" : "/messages/$id",
					params: { id: x.refusal_id || x.message_id || "" },
					search: { archive: words.archive },
				})}
				above={190}
				foot={<CSV path="report/messages.csv" words={words} file="messages.csv" />}
				empty={
					<Nothing title={t`Nothing is behind this figure`}>
						<Trans>Messages are kept for less time than their counts.</Trans>
					</Nothing>
				}
			/>
		</Stack>
	);
}

const behindKey = (x: Behind) => `${x.message_id} ${x.delivery_id} ${x.refusal_id} ${x.at}`;

const columnsOf = (archive: number | undefined): Column<Behind>[] => [
	{ key: "at", title: t`When`, width: 155, cell: (x) => moment(x.at) },
	{ key: "kind", title: t`What`, width: 105, cell: (x) => <State state={x.kind} /> },
	{
		key: "subject",
		title: t`Subject`,
		width: 180,
		grow: 3,
		text: (x) => x.subject,
		cell: (x) => (
			<RowTo
				to={x.refusal_id ? "/refusals/$id" : "/messages/$id"}
				params={{ id: x.refusal_id || x.message_id || "" }}
				search={{ archive }}
			>
				{x.subject || (x.refusal_id ? t`(refused)` : t`(no subject)`)}
			</RowTo>
		),
	},
	{
		key: "sender",
		title: t`From`,
		width: 160,
		grow: 2,
		text: (x) => shown(x.sender),
		cell: (x) => <span className="mono">{shown(x.sender)}</span>,
	},
	{
		key: "recipient",
		title: t`To`,
		width: 160,
		grow: 2,
		text: (x) => x.recipient,
		cell: (x) => <span className="mono">{x.recipient}</span>,
	},
	{ key: "size", title: t`Size`, width: 75, right: true, cell: (x) => octets(x.size) },
	{
		key: "text",
		title: t`Reply`,
		width: 160,
		grow: 4,
		text: (x) => x.text,
		cell: (x) => <span className="mono">{x.text}</span>,
	},
];
