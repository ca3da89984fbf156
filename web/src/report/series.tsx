import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Table } from "@mantine/core";
import type { Report, ReportWords } from "../api/trace";
import { wordOf } from "../parts/names";
import { delay, Figure } from "./figure";
import { kinds } from "./kinds";

/** The course of time in figures, each of which leads to its messages. */
export function Series({ report: r, words }: { report: Report; words: ReportWords }) {
	const there = kinds.filter((k) => r.totals[k.name]?.n);
	return (
		<Table.ScrollContainer minWidth={720} mah={420}>
			<Table horizontalSpacing="sm" verticalSpacing={2} fz="xs" stickyHeader>
				<Table.Thead>
					<Table.Tr>
						<Table.Th>{r.step === "hour" ? t`Hour` : r.step === "day" ? t`Day` : t`Week`}</Table.Th>
						{there.map((k) => (
							<Table.Th ta="right" key={k.name}>
								{wordOf(k.name)}
							</Table.Th>
						))}
						<Table.Th ta="right">
							<Trans>Mean delay</Trans>
						</Table.Th>
					</Table.Tr>
				</Table.Thead>
				<Table.Tbody>
					{r.series.map((p) => (
						<Table.Tr key={p.at}>
							<Table.Td>{p.label}</Table.Td>
							{there.map((k) => (
								<Table.Td ta="right" key={k.name}>
									<Figure n={p.counts[k.name]?.n ?? 0} kind={k.name} words={words} since={p.at} until={p.to} />
								</Table.Td>
							))}
							<Table.Td ta="right">{p.delay ? delay(p.delay.mean) : "–"}</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
		</Table.ScrollContainer>
	);
}
