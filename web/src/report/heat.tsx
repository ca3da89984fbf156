import { t } from "@lingui/core/macro";
import { Trans } from "@lingui/react/macro";
import { SegmentedControl, Text } from "@mantine/core";
import { useState } from "react";
import type { Report } from "../api/trace";
import { wordOf } from "../parts/names";
import { count } from "../parts/text";
import { kinds } from "./kinds";
import { Panel } from "./panel";
import classes from "./report.module.css";

const days = [t`Mon`, t`Tue`, t`Wed`, t`Thu`, t`Fri`, t`Sat`, t`Sun`];
const left = 40;
const cell = 40;
const low = 26;

/** The hours of the week, each as dark as it is busy, with its number in it. */
export function Heat({ report: r }: { report: Report }) {
	const there = kinds.filter((k) => r.week_hours[k.name]?.some((n) => n > 0));
	const [kind, setKind] = useState("received");
	const shown = there.find((k) => k.name === kind) ?? there[0];
	const means = (shown && r.week_hours[shown.name]) ?? [];
	const most = Math.max(...means, 0);
	const at = (d: number, h: number) => means[d * 24 + h] ?? 0;
	const word = (n: number) => (n >= 9.95 || Number.isInteger(n) ? count(Math.round(n)) : n.toFixed(1));
	return (
		<Panel
			name="hours-of-the-week"
			title={t`Hours of the week`}
			note={t`${wordOf(shown?.name ?? "")}, mean an hour, ${r.zone}`}
			numbers={{
				heads: ["hour", ...days],
				rows: Array.from({ length: 24 }, (_, h) => [`${h}:00`, ...days.map((_, d) => at(d, h))]),
			}}
			right={
				there.length > 1 && (
					<SegmentedControl
						size="xs"
						aria-label={t`Which kind`}
						data={there.slice(0, 5).map((k) => ({ value: k.name, label: wordOf(k.name) }))}
						value={shown?.name ?? ""}
						onChange={setKind}
					/>
				)
			}
		>
			{most === 0 ? (
				<Text size="sm" c="dimmed" p="sm">
					<Trans>Nothing was counted.</Trans>
				</Text>
			) : (
				// biome-ignore lint/a11y/noNoninteractiveTabindex: where it is wider than the page it is scrolled by keys
				<section className={classes.wide} tabIndex={0} aria-label={t`Each hour of the week`}>
					<svg
						data-drawing
						viewBox={`0 0 ${left + 24 * cell + 8} ${7 * low + 24}`}
						width="100%"
						role="img"
						aria-label={t`${wordOf(shown?.name ?? "")} by hour of the week; most: ${busiest(means)}`}
						className={classes.heat}
					>
						{days.map((d, i) => (
							<text key={d} x={left - 8} y={i * low + low / 2 + 4} textAnchor="end">
								{d}
							</text>
						))}
						{Array.from({ length: 24 }, (_, h) => (
							// biome-ignore lint/suspicious/noArrayIndexKey: hours do not move
							<text key={h} x={left + h * cell + cell / 2} y={7 * low + 16} textAnchor="middle">
								{h}
							</text>
						))}
						{means.map((n, i) => (
							// biome-ignore lint/suspicious/noArrayIndexKey: hours do not move
							<g key={`${days[Math.floor(i / 24)]}${i % 24}`}>
								<title>{`${days[Math.floor(i / 24)]} ${i % 24}:00: ${word(n)}`}</title>
								<rect
									x={left + (i % 24) * cell}
									y={Math.floor(i / 24) * low}
									width={cell - 1}
									height={low - 1}
									fillOpacity={n === 0 ? 0.02 : 0.05 + 0.4 * Math.sqrt(n / most)}
								/>
								{n > 0 && (
									<text
										x={left + (i % 24) * cell + cell / 2}
										y={Math.floor(i / 24) * low + low / 2 + 4}
										textAnchor="middle"
									>
										{word(n)}
									</text>
								)}
							</g>
						))}
					</svg>
				</section>
			)}
		</Panel>
	);
}

function busiest(means: number[]): string {
	const i = means.indexOf(Math.max(...means));
	return `${days[Math.floor(i / 24)]} ${i % 24}:00`;
}
