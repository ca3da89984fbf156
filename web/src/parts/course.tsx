import "@mantine/charts/styles.layer.css";
import { AreaChart, BarChart, CompositeChart } from "@mantine/charts";
import { Button, Chip, Group, SegmentedControl, Text, Title } from "@mantine/core";
import { useState } from "react";
import { Brush } from "recharts";
import type { Report, Slot } from "../api/trace";
import classes from "../pages/reports.module.css";

/** The kinds that are counted, each with a colour and a dash of its own: colour is never alone. */
export const kinds: { name: string; color: string; dash?: string; means: string }[] = [
	{ name: "received", color: "kelp.6", means: "messages taken" },
	{ name: "delivered", color: "kelp.4", dash: "6 3", means: "recipients reached" },
	{ name: "forwarded", color: "gray.6", dash: "2 3", means: "sent on to another domain by an alias or forward" },
	{ name: "deferred", color: "brass.4", means: "attempts deferred" },
	{ name: "bounced", color: "buoy.5", means: "recipients given back to the sender" },
	{ name: "expired", color: "pink.6", dash: "6 3", means: "expired after waiting" },
	{ name: "rejected", color: "violet.5", dash: "2 3", means: "refused before there was a message" },
	{ name: "discarded", color: "gray.6", dash: "8 2", means: "dropped by an administrator" },
];

/** The course of time: series on and off in the legend, brush to come closer. */
export function Course({ report: r, set }: { report: Report; set: (change: Record<string, unknown>) => void }) {
	const [what, setWhat] = useState("n");
	const there = kinds.filter((k) => r.totals[k.name]?.n);
	const [hidden, setHidden] = useState<string[]>([]);
	const series = there.filter((k) => !hidden.includes(k.name));
	const data = r.series.map((p, i) => {
		const row: Record<string, string | number> = { label: p.label };
		for (const k of there) {
			const f = p.counts[k.name];
			row[k.name] = what === "bytes" ? Math.round((f?.bytes ?? 0) / 1000) : (f?.n ?? 0);
			const b = r.series_before?.[i]?.counts[k.name];
			if (r.series_before) {
				row[`${k.name} before`] = what === "bytes" ? Math.round((b?.bytes ?? 0) / 1000) : (b?.n ?? 0);
			}
		}
		if (what === "delay") {
			row["mean delay"] = p.delay?.mean ?? 0;
			row["longest delay"] = p.delay?.max ?? 0;
		}
		return row;
	});
	const zoom = (range: { startIndex?: number; endIndex?: number }) => {
		const a = r.series[range.startIndex ?? 0];
		const b = r.series[range.endIndex ?? r.series.length - 1];
		if (a && b && (range.startIndex !== 0 || range.endIndex !== r.series.length - 1)) {
			set({ since: a.at, until: b.to });
		}
	};
	const [range, setRange] = useState<{ startIndex?: number; endIndex?: number }>({});
	return (
		<section className="surface" aria-labelledby="course">
			<Group p="sm" pb={0} justify="space-between">
				<Title order={2} size="h5" id="course">
					Over time{" "}
					<Text span size="xs" c="dimmed">
						by {r.step}, {r.zone}
					</Text>
				</Title>
				<Group gap="xs">
					{range.startIndex !== undefined && (
						<Button
							size="compact-xs"
							onClick={() => {
								zoom(range);
								setRange({});
							}}
						>
							Show this part only
						</Button>
					)}
					<SegmentedControl
						size="xs"
						aria-label="What is drawn"
						data={[
							{ value: "n", label: "Messages" },
							{ value: "bytes", label: "kB" },
							{ value: "delay", label: "Delay" },
						]}
						value={what}
						onChange={setWhat}
					/>
				</Group>
			</Group>
			<Group gap={4} px="sm" pt={6} className={classes.controls}>
				{what !== "delay" &&
					there.map((k) => (
						<Chip
							key={k.name}
							size="xs"
							color={k.color}
							checked={!hidden.includes(k.name)}
							onChange={(on) => setHidden(on ? hidden.filter((h) => h !== k.name) : [...hidden, k.name])}
						>
							{k.name}
						</Chip>
					))}
			</Group>
			{what === "delay" ? (
				<AreaChart
					h={230}
					p="sm"
					data={data}
					dataKey="label"
					unit=" s"
					curveType="linear"
					series={[
						{ name: "longest delay", color: "brass.4", strokeDasharray: "5 4" },
						{ name: "mean delay", color: "kelp.6" },
					]}
				/>
			) : (
				<CompositeChart
					h={250}
					p="sm"
					data={data}
					dataKey="label"
					unit={what === "bytes" ? " kB" : undefined}
					curveType="linear"
					withDots={r.series.length < 40}
					dotProps={{ r: 2 }}
					composedChartProps={{ syncId: undefined }}
					series={[
						...series.map((k) => ({ name: k.name, color: k.color, type: "line" as const, strokeDasharray: k.dash })),
						...(r.series_before
							? series.map((k) => ({
									name: `${k.name} before`,
									color: "gray.5",
									type: "line" as const,
									strokeDasharray: "1 4",
								}))
							: []),
					]}
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
			)}
		</section>
	);
}

/** Means by hour of the day or day of the week. */
export function Slots({ title, slots }: { title: string; slots: Slot[] }) {
	const data = slots.map((s) => ({ label: s.label.includes(":") ? s.label : s.label.slice(0, 3), ...s.mean }));
	return (
		<section className="surface" aria-label={title}>
			<Title order={2} size="h5" p="sm" pb={0}>
				{title}{" "}
				<Text span size="xs" c="dimmed">
					mean of the days in the period
				</Text>
			</Title>
			<BarChart
				h={210}
				p="sm"
				data={data}
				dataKey="label"
				series={[
					{ name: "received", color: "kelp.6" },
					{ name: "bounced", color: "buoy.5" },
					{ name: "rejected", color: "violet.5" },
				]}
				withLegend
				legendProps={{ verticalAlign: "bottom", height: 22 }}
			/>
		</section>
	);
}
