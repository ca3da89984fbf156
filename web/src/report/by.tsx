import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Anchor, Button, Group, Select, Table, Text, Title } from "@mantine/core";
import { IconDownload } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { periodEnded } from "../api/past";
import { type Report, type ReportWords, type Row, tracing } from "../api/trace";
import { wordOf } from "../parts/names";
import { download, toCSV } from "../parts/table-file";
import { octets } from "../parts/text";
import { change, delay, Figure } from "./figure";
import { dimensions, kinds } from "./kinds";

/** One table, by whatever is chosen; each name narrows the report to it. */
export function By({
	report: r,
	words,
	set,
}: {
	report: Report;
	words: ReportWords;
	set: (change: Record<string, unknown>) => void;
}) {
	const [dim, setDim] = useState("recipient_domain");
	const [all, setAll] = useState(false);
	const more = useQuery({
		queryKey: ["report-table", dim, words],
		queryFn: () => tracing.table(dim, words, 1000),
		meta: { past: () => periodEnded(words, words.until) },
		enabled: all || !r.tables[dim],
	});
	const rows = (all ? more.data?.items : undefined) ?? r.tables[dim] ?? more.data?.items.slice(0, 20) ?? [];
	const there = kinds.filter((k) => rows.some((x) => x.counts[k.name]?.n));
	// What was received and what was delivered is the same mail: sizes are not added.
	const sized = ["received", "delivered"].filter((k) => there.some((t) => t.name === k));
	return (
		<section className="surface" aria-label={t`By`}>
			<Group p="sm" pb={4} gap="xs" justify="space-between">
				<Group gap="xs">
					<Title order={2} size="h5">
						<Trans>By</Trans>
					</Title>
					<Select
						size="xs"
						w={170}
						aria-label={t`By what`}
						data={dimensions.filter((d) => d.value !== "cause")}
						value={dim}
						onChange={(v) => v && setDim(v)}
						allowDeselect={false}
					/>
				</Group>
				<Group gap="xs">
					<Button size="compact-xs" variant="subtle" onClick={() => setAll(!all)}>
						{all ? t`Only the largest` : t`Show up to 1,000`}
					</Button>
					<Button
						size="compact-xs"
						variant="subtle"
						leftSection={<IconDownload size={12} />}
						onClick={() =>
							download(
								`${dim}.csv`,
								toCSV(
									rows.map((x) => ({
										[dim]: x.value,
										...Object.fromEntries(
											kinds.flatMap((k) => [
												[k.name, x.counts[k.name]?.n ?? 0],
												[`${k.name}_bytes`, x.counts[k.name]?.bytes ?? 0],
											]),
										),
									})),
								),
							)
						}
					>
						<Trans>CSV</Trans>
					</Button>
				</Group>
			</Group>
			<Table.ScrollContainer minWidth={720} mah={all ? 560 : undefined}>
				<Table horizontalSpacing="sm" verticalSpacing={3} stickyHeader={all}>
					<Table.Thead>
						<Table.Tr>
							<Table.Th>{dimensions.find((d) => d.value === dim)?.label}</Table.Th>
							{there.map((k) => (
								<Table.Th ta="right" key={k.name} title={k.means}>
									{wordOf(k.name)}
								</Table.Th>
							))}
							{sized.map((k) => (
								<Table.Th ta="right" key={k}>
									{k === "received" ? t`size received` : t`size delivered`}
								</Table.Th>
							))}
							<Table.Th ta="right">
								<Trans>Mean delay</Trans>
							</Table.Th>
						</Table.Tr>
					</Table.Thead>
					<Table.Tbody>
						{rows.map((x) => (
							<Table.Tr key={x.value}>
								<Table.Td className="mono">
									<Anchor component="button" inherit onClick={() => set({ dim, value: x.value })}>
										{x.value}
									</Anchor>
								</Table.Td>
								{there.map((k) => (
									<Table.Td ta="right" key={k.name}>
										<Figure n={x.counts[k.name]?.n ?? 0} kind={k.name} words={words} dim={dim} value={x.value} />
										{x.before && (
											<Text size="xs" c="dimmed">
												{change(x.counts[k.name]?.n ?? 0, x.before[k.name]?.n ?? 0)}
											</Text>
										)}
									</Table.Td>
								))}
								{sized.map((k) => (
									<Table.Td ta="right" key={k}>
										{octets(x.counts[k]?.bytes ?? 0)}
									</Table.Td>
								))}
								<Table.Td ta="right">{x.delay ? delay(x.delay.mean) : "–"}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

type ReasonsProps = { title: string; rows: Row[]; kinds: string[]; words: ReportWords };

/** Why it came to an end that nobody wanted: the causes, those with most first. */
export function Reasons({ title, rows, kinds: of, words }: ReasonsProps) {
	return (
		<section className="surface" aria-label={title}>
			<Title order={2} size="h5" p="sm" pb={4}>
				{title}
			</Title>
			<Table horizontalSpacing="sm" verticalSpacing={3}>
				<Table.Tbody>
					{rows.map((r) => (
						<Table.Tr key={r.value}>
							<Table.Td title={r.value}>{r.title || r.value}</Table.Td>
							<Table.Td ta="right" style={{ whiteSpace: "nowrap" }}>
								{of.map((k) => {
									const n = r.counts[k]?.n ?? 0;
									return n > 0 ? (
										<span key={k} title={k}>
											{" "}
											<Figure n={n} kind={k} words={words} dim="cause" value={r.value} />
											{of.length > 1 && k === "expired" ? t` expired` : ""}
										</span>
									) : null;
								})}
							</Table.Td>
						</Table.Tr>
					))}
				</Table.Tbody>
			</Table>
			{rows.length === 0 && (
				<Text size="sm" c="dimmed" p="sm" pt={0}>
					<Trans>Nothing was.</Trans>
				</Text>
			)}
		</section>
	);
}
