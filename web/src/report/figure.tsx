import { t } from "@lingui/core/macro";
import { Text } from "@mantine/core";
import type { ReportWords } from "../api/trace";
import { count } from "../parts/text";
import { To } from "../parts/to";
import { short } from "../parts/when";

type FigureProps = {
	n: number;
	kind: string;
	words: ReportWords;
	dim?: string;
	value?: string;
	since?: string;
	until?: string;
};

/** A figure leads to the messages behind it. */
export function Figure({ n, kind, words, dim, value, since, until }: FigureProps) {
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

/** delay writes how long something took. */
export function delay(seconds: number): string {
	if (seconds < 0.001) {
		return t`< 1 ms`;
	}
	return seconds < 1 ? t`${Math.round(seconds * 1000)} ms` : seconds < 60 ? `${seconds.toFixed(1)} s` : short(seconds);
}

/** change says how much more or less it is than before. */
export function change(now: number, before: number): string {
	if (before === 0) {
		return now === 0 ? t`none before` : "new";
	}
	const p = Math.round(((now - before) * 100) / before);
	return t`${p > 0 ? "+" : ""}${p} % from ${count(before)}`;
}
