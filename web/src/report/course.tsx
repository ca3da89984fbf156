import "@mantine/core/styles/Chip.layer.css";
import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { wordOf } from "../parts/names";
import "@mantine/charts/styles.layer.css";
import { AreaChart, BarChart, CompositeChart } from "@mantine/charts";
import { Button, Chip, Group } from "@mantine/core";
import { useState } from "react";
import { Brush } from "recharts";
import type { Report, ReportWords, Slot } from "../api/trace";
import { clock, day } from "../parts/time";
import { kinds } from "./kinds";
import { type Numbers, Panel } from "./panel";
import classes from "./report.module.css";
import { Series } from "./series";

type CourseProps = {
	report: Report;
	of: "n" | "bytes";
	words: ReportWords;
	set: (change: Record<string, unknown>) => void;
};

/** The unit in which sizes of a report are told: that of its largest. */
function unitOf(most: number): [number, string] {
	return most >= 2e9 ? [1e9, "GB"] : most >= 2e6 ? [1e6, "MB"] : [1e3, "kB"];
}

/**
 * The course of time, of how many or of how much: kinds on and off, the time before as a
 * fine line of the same colour, and a brush to come closer.
 */
export function Course({ report: r, of, words, set }: CourseProps) {
	const [hidden, setHidden] = useState<string[]>([]);
	const [range, setRange] = useState<{ startIndex?: number; endIndex?: number }>({});
	// A size is of a message that passed; what was deferred or refused has none of its own.
	const there = kinds.filter((k) => r.totals[k.name]?.n && (of === "n" || ["received", "delivered"].includes(k.name)));
	const most = Math.max(0, ...r.series.flatMap((p) => there.map((k) => p.counts[k.name]?.bytes ?? 0)));
	const [per, unit] = of === "bytes" ? unitOf(most) : [1, ""];
	const value = (p: Report["series"][number] | undefined, kind: string) => {
		const f = p?.counts[kind];
		return of === "bytes" ? Math.round((10 * (f?.bytes ?? 0)) / per) / 10 : (f?.n ?? 0);
	};
	const series = there.filter((k) => !hidden.includes(k.name));
	const before = r.series_before;
	const names = [...there.map((k) => k.name), ...(before ? there.map((k) => `${k.name} before`) : [])];
	const data = r.series.map((p, i) => {
		const row: Record<string, string | number> = { label: p.label };
		for (const k of there) {
			row[k.name] = value(p, k.name);
			if (before) {
				row[`${k.name} before`] = value(before[i], k.name);
			}
		}
		return row;
	});
	const numbers: Numbers = {
		heads: [r.step, ...names.map((n) => (unit ? `${n}, ${unit}` : n))],
		rows: data.map((d) => [d.label ?? "", ...names.map((n) => d[n] ?? 0)]),
	};
	const zoom = () => {
		const a = r.series[range.startIndex ?? 0];
		const b = r.series[range.endIndex ?? r.series.length - 1];
		setRange({});
		if (a && b) {
			set({ since: a.at, until: b.to });
		}
	};
	const cut = range.startIndex !== undefined && (range.startIndex > 0 || range.endIndex !== r.series.length - 1);
	return (
		<Panel
			name={of === "n" ? "over-time" : "sizes"}
			title={of === "n" ? t`Over time` : t`Sizes over time`}
			note={t`by ${wordOf(r.step)}, ${r.zone}${unit && `, ${unit}`}`}
			legend={legendOf(there.map((k) => k.name))}
			numbers={numbers}
			table={of === "n" ? <Series report={r} words={words} /> : undefined}
			right={
				cut && (
					<Button size="compact-xs" onClick={zoom}>
						<Trans>Show this part only</Trans>
					</Button>
				)
			}
		>
			<Group gap={4} px="sm" className={classes.controls}>
				{there.map((k) => (
					<Chip
						key={k.name}
						size="xs"
						color={k.color}
						checked={!hidden.includes(k.name)}
						onChange={(on) => setHidden(on ? hidden.filter((h) => h !== k.name) : [...hidden, k.name])}
					>
						{wordOf(k.name)}
					</Chip>
				))}
			</Group>
			<CompositeChart
				h={250}
				p="sm"
				data={data}
				dataKey="label"
				unit={unit ? ` ${unit}` : undefined}
				curveType="linear"
				withDots={r.series.length < 40}
				dotProps={{ r: 2 }}
				composedChartProps={{ syncId: undefined }}
				series={[
					...series.map((k) => ({
						name: k.name,
						label: wordOf(k.name),
						color: k.color,
						type: "line" as const,
						strokeDasharray: k.dash,
					})),
					...(before
						? series.map((k) => ({
								name: `${k.name} before`,
								label: t`${wordOf(k.name)} before`,
								color: k.color,
								type: "line" as const,
								strokeDasharray: "1 4",
							}))
						: []),
				]}
				lineProps={(s) =>
					String(s.name).endsWith(" before") ? { strokeWidth: 1.5, strokeOpacity: 0.8, dot: false } : {}
				}
			>
				{r.series.length > 3 && (
					<Brush
						dataKey="label"
						height={22}
						stroke="var(--gull-moves)"
						fill="var(--gull-surface)"
						travellerWidth={8}
						onChange={(e: { startIndex?: number; endIndex?: number }) => setRange(e)}
					/>
				)}
			</CompositeChart>
		</Panel>
	);
}

function legendOf(names: string[]): string {
	return kinds
		.filter((k) => names.includes(k.name))
		.map((k) => `${wordOf(k.name)} ${k.dash ? "– –" : "——"}`)
		.join("   ");
}

/** How long it took from taking a message to delivering it, over time. */
export function Delays({ report: r }: { report: Report }) {
	const data = r.series.map((p) => ({
		label: p.label,
		"mean delay": p.delay?.mean ?? 0,
		"longest delay": p.delay?.max ?? 0,
	}));
	return (
		<Panel
			name="delays"
			title={t`Delay over time`}
			note={t`by ${wordOf(r.step)}, ${r.zone}, seconds`}
			legend={t`mean delay ——   longest delay – –`}
			numbers={{
				heads: [r.step, "mean delay, s", "longest delay, s"],
				rows: data.map((d) => [d.label, d["mean delay"], d["longest delay"]]),
			}}
		>
			<AreaChart
				h={230}
				p="sm"
				data={data}
				dataKey="label"
				unit=" s"
				curveType="linear"
				series={[
					{ name: "longest delay", label: t`longest delay`, color: "brass.4", strokeDasharray: "5 4" },
					{ name: "mean delay", label: t`mean delay`, color: "kelp.6" },
				]}
			/>
		</Panel>
	);
}

/** Means by hour of the day or day of the week. */
export function Slots({ name, title, slots }: { name: string; title: string; slots: Slot[] }) {
	const shown = ["received", "bounced", "rejected"];
	const data = slots.map((s) => ({ label: s.label.includes(":") ? s.label : s.label.slice(0, 3), ...s.mean }));
	return (
		<Panel
			name={name}
			title={title}
			note={t`mean of the days in the period`}
			legend={legendOf(shown)}
			numbers={{
				heads: ["of", ...shown],
				rows: slots.map((s) => [s.label, ...shown.map((k) => s.mean[k] ?? 0)]),
			}}
		>
			<BarChart
				h={210}
				p="sm"
				data={data}
				dataKey="label"
				series={[
					{ name: "received", label: wordOf("received"), color: "kelp.6" },
					{ name: "bounced", label: wordOf("bounced"), color: "buoy.5" },
					{ name: "rejected", label: wordOf("rejected"), color: "violet.5" },
				]}
				withLegend
				legendProps={{ verticalAlign: "bottom", height: 22 }}
			/>
		</Panel>
	);
}

/** What a file of a report is called: by the days that it is of. */
export const fileOf = (r: Report) => `traffic-${day(r.since)}-${clock(r.since, false).replace(":", "")}`;
