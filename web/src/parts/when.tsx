import { Text, Tooltip } from "@mantine/core";
import { useInterval } from "@mantine/hooks";
import { useState } from "react";

const units: [number, string][] = [
	[86400, "d"],
	[3600, "h"],
	[60, "m"],
	[1, "s"],
];

/** short writes a number of seconds as people say it: 45s, 12m, 3h 20m, 4d. */
export function short(seconds: number): string {
	const s = Math.floor(Math.abs(seconds));
	if (s >= 3600 && s < 2 * 86400) {
		return `${Math.floor(s / 3600)}h ${String(Math.floor(s / 60) % 60).padStart(2, "0")}m`;
	}
	const [size, unit] = units.find(([size]) => s >= size) ?? [1, "s"];
	return `${Math.floor(s / size)}${unit}`;
}

/** span writes a length of time without what is nothing: 6h, 2d, 1h 30m. */
export function span(seconds: number): string {
	const s = Math.round(seconds);
	if (s >= 86400 && s % 86400 === 0) {
		return `${s / 86400}d`;
	}
	return s >= 3600 && s % 3600 === 0 ? `${s / 3600}h` : short(s);
}

export function exact(time: string): string {
	return `${time.slice(0, 10)} ${time.slice(11, 19)} UTC`;
}

/** AsOf says until when a standby had what was written, if it was read from one. */
export function AsOf({ time }: { time: string | null | undefined }) {
	return time ? (
		<Tooltip label="It was read from a standby of the database, which is a moment behind.">
			<Text size="xs" c="dimmed" span>
				as of {exact(time)}
			</Text>
		</Tooltip>
	) : null;
}

type WhenProps = { time: string | null | undefined; none?: string; due?: boolean };

/**
 * When shows a time as so long ago, or in so long; the exact one on hover. What
 * is due already is due now.
 */
export function When({ time, none = "–", due }: WhenProps) {
	const [now, setNow] = useState(Date.now());
	useInterval(() => setNow(Date.now()), 1000, { autoInvoke: true });
	if (!time) {
		return <Text span>{none}</Text>;
	}
	const seconds = (now - Date.parse(time)) / 1000;
	const text =
		Math.abs(seconds) < 1 || (due && seconds > 0)
			? "now"
			: seconds > 0
				? `${short(seconds)} ago`
				: `in ${short(seconds)}`;
	return (
		<Tooltip label={exact(time)}>
			<time dateTime={time} style={{ whiteSpace: "nowrap" }}>
				{text}
			</time>
		</Tooltip>
	);
}
