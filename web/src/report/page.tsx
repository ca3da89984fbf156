import "@mantine/core/styles/Chip.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { Alert, Button, Chip, Group, Menu, SegmentedControl, Select, SimpleGrid, Stack, Text } from "@mantine/core";
import { IconChartBar, IconDownload, IconPrinter } from "@tabler/icons-react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useChoices } from "../api/choices";
import { choose } from "../api/kept";
import { periodEnded } from "../api/past";
import { type Point, type Report, type ReportWords, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { Heading } from "../parts/heading";
import { useBounds } from "../parts/may";
import { wordOf } from "../parts/names";
import { Failed, Loading } from "../parts/states";
import { download, toCSV } from "../parts/table-file";
import { octets } from "../parts/text";
import { AsOf, exact } from "../parts/when";
import { By, Reasons } from "./by";
import { Course, Delays, fileOf, Slots } from "./course";
import { change, delay, Figure } from "./figure";
import { Heat } from "./heat";
import { kinds } from "./kinds";
import { Movers } from "./movers";
import { Period, periods } from "./period";
import classes from "./report.module.css";

/** The parts of which one chooses what the page shows; kept for the person. */
const charts = [
	{ name: "course", label: t`Over time` },
	{ name: "sizes", label: t`Sizes over time` },
	{ name: "delays", label: t`Delay over time` },
	{ name: "heat", label: t`Hours of the week` },
	{ name: "hours", label: t`By hour of the day` },
	{ name: "weekdays", label: t`By day of the week` },
	{ name: "reasons", label: t`Why deferred, bounced, rejected` },
	{ name: "movers", label: t`What moved most` },
	{ name: "by", label: t`By domain, host, sender …` },
];

const first = ["course", "heat", "reasons", "movers", "by"];

const iso = (t: number) => new Date(t).toISOString();

type Setter = (change: Record<string, unknown>) => void;

/** What the traffic looks like: over time, by whom, and why not. */
export function ReportsPage() {
	const words = useSearch({ from: "/reports" });
	const navigate = useNavigate();
	const [from, to] = periods[2]?.of() ?? [0, 0];
	const since = words.since ?? iso(from);
	const until = words.until ?? iso(to);
	const length = Date.parse(until) - Date.parse(since);
	const { compare, ...rest } = words;
	const asked: ReportWords = {
		...rest,
		since,
		until,
		before: compare ? iso(Date.parse(since) - length) : undefined,
	};
	const report = useQuery({
		queryKey: ["report", asked],
		queryFn: () => tracing.report(asked),
		meta: { past: () => periodEnded(words, words.until) },
		placeholderData: keepPreviousData,
	});
	const bounds = useBounds();
	const set: Setter = (change) => void navigate({ to: "/reports", search: { ...words, ...change } });
	return (
		<Stack gap="sm">
			<Group gap="md" justify="space-between" className={classes.beside}>
				<Heading>
					<Trans>Reports</Trans>
				</Heading>
				<Group gap="xs" className={classes.controls}>
					<ChartsMenu />
					<Button
						size="xs"
						variant="default"
						leftSection={<IconDownload size={14} />}
						disabled={!report.data}
						onClick={() =>
							report.data && download(`${fileOf(report.data)}.csv`, toCSV(report.data.series.map(flatPoint)))
						}
					>
						<Trans>CSV</Trans>
					</Button>
					<Button size="xs" variant="default" leftSection={<IconPrinter size={14} />} onClick={() => window.print()}>
						<Trans>Print</Trans>
					</Button>
				</Group>
			</Group>
			<ArchiveNote note={report.data?.note} />
			<AsOf time={report.data?.as_of} />
			<Group gap="xs" className={classes.controls}>
				<Period since={since} until={until} onPeriod={(a, b) => set({ since: a, until: b })} />
				<Chip size="xs" checked={compare ?? false} onChange={(v) => set({ compare: v || undefined })}>
					<Trans>Compare with the time before</Trans>
				</Chip>
			</Group>
			<Text size="xs" c="dimmed" className={classes.printed}>
				<Trans>
					{exact(since)} to {exact(until)}
				</Trans>
			</Text>
			{bounds.length > 0 && report.data && (
				<Group gap="xs" className={classes.controls}>
					<SegmentedControl
						size="xs"
						aria-label={t`Which mail`}
						data={[
							{ value: "recipient_domain", label: t`Mail to` },
							{ value: "sender_domain", label: t`Mail from` },
						]}
						value={report.data.dim}
						onChange={(dim) => set({ dim, value: report.data.value })}
					/>
					<Select
						size="xs"
						aria-label={t`Domain`}
						allowDeselect={false}
						data={bounds}
						value={report.data.value ?? null}
						onChange={(value) => value && set({ dim: report.data.dim, value })}
					/>
				</Group>
			)}
			{bounds.length === 0 && words.dim && words.dim !== "total" && (
				<Alert color="kelp" p="xs" withCloseButton onClose={() => set({ dim: undefined, value: undefined })}>
					<Trans>
						Only {words.dim.replace("_", " ")} <b>{words.value}</b>
					</Trans>
				</Alert>
			)}
			{!report.data ? (
				report.error ? (
					<Failed error={report.error} />
				) : (
					<Loading what={t`the counts`} />
				)
			) : (
				<Shown report={report.data} words={asked} set={set} />
			)}
		</Stack>
	);
}

const shownOf = (chosen: string[] | undefined) => chosen ?? first;

function ChartsMenu() {
	const on = shownOf(useChoices().charts);
	return (
		<Menu closeOnItemClick={false} position="bottom-end">
			<Menu.Target>
				<Button size="xs" variant="default" leftSection={<IconChartBar size={14} />}>
					<Trans>Charts</Trans>
				</Button>
			</Menu.Target>
			<Menu.Dropdown>
				{charts.map((c) => (
					<Menu.CheckboxItem
						key={c.name}
						checked={on.includes(c.name)}
						onChange={(v) => void choose({ charts: v ? [...on, c.name] : on.filter((n) => n !== c.name) })}
					>
						{c.label}
					</Menu.CheckboxItem>
				))}
			</Menu.Dropdown>
		</Menu>
	);
}

function Shown({ report: r, words, set }: { report: Report; words: ReportWords; set: Setter }) {
	const on = shownOf(useChoices().charts);
	const all = r.dim === "total";
	return (
		<>
			<Totals report={r} words={words} />
			{on.includes("course") && <Course report={r} of="n" words={words} set={set} />}
			{on.includes("sizes") && <Course report={r} of="bytes" words={words} set={set} />}
			{on.includes("delays") && <Delays report={r} />}
			{on.includes("heat") && <Heat report={r} />}
			{(on.includes("hours") || on.includes("weekdays")) && (
				<SimpleGrid cols={{ base: 1, md: on.includes("hours") && on.includes("weekdays") ? 2 : 1 }} spacing="sm">
					{on.includes("hours") && (
						<Slots name="hours-of-the-day" title={t`By hour of the day`} slots={r.hours_of_day} />
					)}
					{on.includes("weekdays") && (
						<Slots name="days-of-the-week" title={t`By day of the week`} slots={r.weekdays} />
					)}
				</SimpleGrid>
			)}
			{all && on.includes("reasons") && (
				<SimpleGrid cols={{ base: 1, lg: 3 }} spacing="sm" className={classes.beside}>
					<Reasons title={t`Why deferred`} rows={r.reasons.deferred ?? []} kinds={["deferred"]} words={words} />
					<Reasons title={t`Why bounced`} rows={r.reasons.bounced ?? []} kinds={["bounced", "expired"]} words={words} />
					<Reasons title={t`Why rejected`} rows={r.reasons.rejected ?? []} kinds={["rejected"]} words={words} />
				</SimpleGrid>
			)}
			{all && on.includes("movers") && <Movers words={words} />}
			{all && on.includes("by") && <By report={r} words={words} set={set} />}
		</>
	);
}

function Totals({ report: r, words }: { report: Report; words: ReportWords }) {
	return (
		<SimpleGrid cols={{ base: 2, sm: 4, lg: 9 }} spacing={6} className={classes.beside}>
			{kinds.map((k) => {
				const f = r.totals[k.name] ?? { n: 0, bytes: 0 };
				return (
					<div className={`surface ${classes.total}`} key={k.name} title={k.means}>
						<Text size="xs" c="dimmed">
							{wordOf(k.name)}
						</Text>
						<Text fw={650} size="lg">
							<Figure n={f.n} kind={k.name} words={words} />
						</Text>
						<Text size="xs" c="dimmed">
							{r.before ? change(f.n, r.before[k.name]?.n ?? 0) : f.n > 0 ? octets(f.bytes) : k.means}
						</Text>
					</div>
				);
			})}
			<div className={`surface ${classes.total}`} title={t`From when we took a message until it was delivered`}>
				<Text size="xs" c="dimmed">
					<Trans>delay, {r.delay?.median === undefined ? t`mean` : t`median`}</Trans>
				</Text>
				<Text fw={650} size="lg">
					{r.delay ? delay(r.delay.median ?? r.delay.mean) : "–"}
				</Text>
				<Text size="xs" c="dimmed">
					{r.delay
						? t`${r.delay.p95 === undefined ? "" : `95 %: ${delay(r.delay.p95)}, `}max ${delay(r.delay.max)}`
						: t`nothing delivered`}
				</Text>
			</div>
		</SimpleGrid>
	);
}

function flatPoint(p: Point): Record<string, unknown> {
	const out: Record<string, unknown> = { at: p.at, to: p.to };
	for (const k of kinds) {
		out[k.name] = p.counts[k.name]?.n ?? 0;
		out[`${k.name}_bytes`] = p.counts[k.name]?.bytes ?? 0;
	}
	return out;
}
