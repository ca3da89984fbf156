import {
	Alert,
	Anchor,
	Button,
	Chip,
	Group,
	SegmentedControl,
	Select,
	SimpleGrid,
	Stack,
	Table,
	Text,
	TextInput,
	Title,
} from "@mantine/core";
import { IconDownload, IconPrinter } from "@tabler/icons-react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useNavigate, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { periodEnded } from "../api/past";
import { type Point, type Report, type ReportWords, type Row, tracing } from "../api/trace";
import { ArchiveNote } from "../parts/archive";
import { Course, kinds, Slots } from "../parts/course";
import { Heading } from "../parts/heading";
import { Failed, Loading } from "../parts/states";
import { download, toCSV } from "../parts/table-file";
import { count, octets } from "../parts/text";
import { day, moment, momentAt } from "../parts/time";
import { To } from "../parts/to";
import { AsOf, short } from "../parts/when";
import classes from "./reports.module.css";

const dimensions = [
	{ value: "recipient_domain", label: "Receiving domain" },
	{ value: "sender_domain", label: "Sending domain" },
	{ value: "host", label: "Receiving host" },
	{ value: "client", label: "Sending host" },
	{ value: "recipient", label: "Recipient" },
	{ value: "sender", label: "Sender" },
	{ value: "account", label: "Account" },
	{ value: "listener", label: "Listener" },
	{ value: "route", label: "Route" },
	{ value: "direction", label: "Direction" },
];

const hour = 3_600_000;
const ceilHour = (t: number) => Math.ceil(t / hour) * hour;

/** Periods that can be chosen directly. */
const periods: { label: string; of: () => [number, number] }[] = [
	{ label: "24 hours", of: () => [ceilHour(Date.now()) - 24 * hour, ceilHour(Date.now())] },
	{ label: "Yesterday", of: () => [midnight(-1), midnight(0)] },
	{ label: "7 days", of: () => [midnight(-6), ceilHour(Date.now())] },
	{ label: "14 days", of: () => [midnight(-13), ceilHour(Date.now())] },
	{ label: "30 days", of: () => [midnight(-29), ceilHour(Date.now())] },
	{ label: "90 days", of: () => [midnight(-89), ceilHour(Date.now())] },
];

function midnight(days: number): number {
	const t = momentAt(`${day(Date.now())}T00:00`)?.getTime() ?? Date.now();
	const wanted = momentAt(`${day(t + days * 86_400_000 + 43_200_000)}T00:00`);
	return wanted?.getTime() ?? t;
}

const iso = (t: number) => new Date(t).toISOString();

/** What the traffic looks like: over time, by whom, and why not. */
export function ReportsPage() {
	const words = useSearch({ from: "/reports" });
	const navigate = useNavigate();
	const [from, to] = periods[2]?.of() ?? [0, 0];
	const since = words.since ?? iso(from);
	const until = words.until ?? iso(to);
	const length = Date.parse(until) - Date.parse(since);
	const asked: ReportWords = {
		...words,
		since,
		until,
		before: words.compare ? iso(Date.parse(since) - length) : undefined,
	};
	delete (asked as { compare?: boolean }).compare;
	const report = useQuery({
		queryKey: ["report", asked],
		queryFn: () => tracing.report(asked),
		meta: { past: () => periodEnded(words, words.until) },
		placeholderData: keepPreviousData,
	});
	const set = (change: Record<string, unknown>) => void navigate({ to: "/reports", search: { ...words, ...change } });
	return (
		<Stack gap="sm">
			<Group gap="md" justify="space-between">
				<Heading>Reports</Heading>
				<Group gap="xs">
					<Button
						size="xs"
						variant="default"
						leftSection={<IconDownload size={14} />}
						disabled={!report.data}
						onClick={() => report.data && download("traffic.csv", toCSV(report.data.series.map(flatPoint)))}
					>
						CSV
					</Button>
					<Button size="xs" variant="default" leftSection={<IconPrinter size={14} />} onClick={() => window.print()}>
						Print
					</Button>
				</Group>
			</Group>
			<ArchiveNote note={report.data?.note} />
			<AsOf time={report.data?.as_of} />
			<Group gap="xs" className={classes.controls}>
				<SegmentedControl
					size="xs"
					aria-label="Period"
					data={periods.map((p) => p.label)}
					value={
						periods.find((p) => {
							const [a, b] = p.of();
							return iso(a) === since && iso(b) === until;
						})?.label ?? ""
					}
					onChange={(v) => {
						const p = periods.find((x) => x.label === v);
						if (p) {
							const [a, b] = p.of();
							set({ since: iso(a), until: iso(b) });
						}
					}}
				/>
				<TimeInput label="From" value={since} onChange={(v) => set({ since: v, until })} />
				<TimeInput label="Until" value={until} onChange={(v) => set({ since, until: v })} />
				<Chip size="xs" checked={words.compare ?? false} onChange={(v) => set({ compare: v || undefined })}>
					Compare with the time before
				</Chip>
			</Group>
			{words.dim && words.dim !== "total" && (
				<Alert color="kelp" p="xs" withCloseButton onClose={() => set({ dim: undefined, value: undefined })}>
					Only {words.dim.replace("_", " ")} <b>{words.value}</b>
				</Alert>
			)}
			{!report.data ? (
				report.error ? (
					<Failed error={report.error} />
				) : (
					<Loading what="the counts" />
				)
			) : (
				<Shown report={report.data} words={asked} set={set} />
			)}
		</Stack>
	);
}

function TimeInput({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
	return (
		<TextInput
			type="datetime-local"
			size="xs"
			aria-label={label}
			step={3600}
			value={moment(value, false).replace(" ", "T")}
			onChange={(e) => {
				const t = momentAt(e.currentTarget.value);
				if (t) {
					onChange(t.toISOString());
				}
			}}
		/>
	);
}

type Setter = (change: Record<string, unknown>) => void;

function Shown({ report: r, words, set }: { report: Report; words: ReportWords; set: Setter }) {
	return (
		<>
			<Totals report={r} words={words} />
			<Course report={r} set={set} />
			<SimpleGrid cols={{ base: 1, md: 2 }} spacing="sm">
				<Slots title="By hour of the day" slots={r.hours_of_day} />
				<Slots title="By day of the week" slots={r.weekdays} />
			</SimpleGrid>
			{r.dim === "total" && (
				<>
					<SimpleGrid cols={{ base: 1, lg: 3 }} spacing="sm">
						<Reasons title="Why deferred" rows={r.reasons.deferred ?? []} kinds={["deferred"]} words={words} />
						<Reasons title="Why bounced" rows={r.reasons.bounced ?? []} kinds={["bounced", "expired"]} words={words} />
						<Reasons title="Why rejected" rows={r.reasons.rejected ?? []} kinds={["rejected"]} words={words} />
					</SimpleGrid>
					<By report={r} words={words} set={set} />
				</>
			)}
			<SeriesTable report={r} words={words} />
		</>
	);
}

/** A figure leads to the messages behind it. */
function Figure({
	n,
	kind,
	words,
	dim,
	value,
	since,
	until,
}: {
	n: number;
	kind: string;
	words: ReportWords;
	dim?: string;
	value?: string;
	since?: string;
	until?: string;
}) {
	if (n === 0) {
		return (
			<Text span inherit c="dimmed">
				–
			</Text>
		);
	}
	return (
		<To
			to="/reports/messages"
			search={{
				kind,
				dim: dim ?? words.dim,
				value: value ?? words.value,
				since: since ?? words.since,
				until: until ?? words.until,
				archive: words.archive,
			}}
			inherit
		>
			{count(n)}
		</To>
	);
}

function Totals({ report: r, words }: { report: Report; words: ReportWords }) {
	return (
		<SimpleGrid cols={{ base: 2, sm: 4, lg: 9 }} spacing={6}>
			{kinds.map((k) => {
				const f = r.totals[k.name] ?? { n: 0, bytes: 0 };
				return (
					<div className={`surface ${classes.total}`} key={k.name} title={k.means}>
						<Text size="xs" c="dimmed">
							{k.name}
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
			<div className={`surface ${classes.total}`} title="From when we took a message until it was delivered">
				<Text size="xs" c="dimmed">
					delay, {r.delay?.median === undefined ? "mean" : "median"}
				</Text>
				<Text fw={650} size="lg">
					{r.delay ? time(r.delay.median ?? r.delay.mean) : "–"}
				</Text>
				<Text size="xs" c="dimmed">
					{r.delay
						? `${r.delay.p95 === undefined ? "" : `95 %: ${time(r.delay.p95)}, `}max ${time(r.delay.max)}`
						: "nothing delivered"}
				</Text>
			</div>
		</SimpleGrid>
	);
}

function time(seconds: number): string {
	if (seconds < 0.001) {
		return "< 1 ms";
	}
	return seconds < 1 ? `${Math.round(seconds * 1000)} ms` : seconds < 60 ? `${seconds.toFixed(1)} s` : short(seconds);
}

function change(now: number, before: number): string {
	if (before === 0) {
		return now === 0 ? "none before" : "new";
	}
	const p = Math.round(((now - before) * 100) / before);
	return `${p > 0 ? "+" : ""}${p} % from ${count(before)}`;
}

function flatPoint(p: Point): Record<string, unknown> {
	const out: Record<string, unknown> = { at: p.at, to: p.to };
	for (const k of kinds) {
		out[k.name] = p.counts[k.name]?.n ?? 0;
		out[`${k.name}_bytes`] = p.counts[k.name]?.bytes ?? 0;
	}
	return out;
}

function Reasons({
	title,
	rows,
	kinds: of,
	words,
}: {
	title: string;
	rows: Row[];
	kinds: string[];
	words: ReportWords;
}) {
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
											{of.length > 1 && k === "expired" ? " expired" : ""}
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
					Nothing was.
				</Text>
			)}
		</section>
	);
}

/** One table, by whatever is chosen; each name narrows the report to it. */
function By({ report: r, words, set }: { report: Report; words: ReportWords; set: Setter }) {
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
	return (
		<section className="surface" aria-label="By">
			<Group p="sm" pb={4} gap="xs" justify="space-between">
				<Group gap="xs">
					<Title order={2} size="h5">
						By
					</Title>
					<Select
						size="xs"
						w={170}
						aria-label="By what"
						data={dimensions}
						value={dim}
						onChange={(v) => v && setDim(v)}
						allowDeselect={false}
					/>
				</Group>
				<Group gap="xs">
					<Button size="compact-xs" variant="subtle" onClick={() => setAll(!all)}>
						{all ? "Only the largest" : "Show up to 1,000"}
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
						CSV
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
									{k.name}
								</Table.Th>
							))}
							<Table.Th ta="right">Size</Table.Th>
							<Table.Th ta="right">Mean delay</Table.Th>
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
								<Table.Td ta="right">{octets(Object.values(x.counts).reduce((s, f) => s + f.bytes, 0))}</Table.Td>
								<Table.Td ta="right">{x.delay ? time(x.delay.mean) : "–"}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}

/** The same as the chart, in figures. */
function SeriesTable({ report: r, words }: { report: Report; words: ReportWords }) {
	const there = kinds.filter((k) => r.totals[k.name]?.n);
	return (
		<section className="surface" aria-label="The course of time in figures">
			<Table.ScrollContainer minWidth={720} mah={420}>
				<Table horizontalSpacing="sm" verticalSpacing={2} stickyHeader>
					<Table.Thead>
						<Table.Tr>
							<Table.Th>{r.step === "hour" ? "Hour" : r.step === "day" ? "Day" : "Week"}</Table.Th>
							{there.map((k) => (
								<Table.Th ta="right" key={k.name}>
									{k.name}
								</Table.Th>
							))}
							<Table.Th ta="right">Mean delay</Table.Th>
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
								<Table.Td ta="right">{p.delay ? time(p.delay.mean) : "–"}</Table.Td>
							</Table.Tr>
						))}
					</Table.Tbody>
				</Table>
			</Table.ScrollContainer>
		</section>
	);
}
