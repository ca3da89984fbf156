import { t } from "@lingui/core/macro";

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

/** ago says how long ago a time was, or in how long it comes. What is due already is due now. */
export function ago(time: string, now: number, due = false): string {
	const seconds = (now - Date.parse(time)) / 1000;
	if (Math.abs(seconds) < 1 || (due && seconds > 0)) {
		return "now";
	}
	return seconds > 0 ? t`${short(seconds)} ago` : t`in ${short(seconds)}`;
}
