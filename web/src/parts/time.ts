import { zone } from "../api/choices";

const formats = new Map<string, Intl.DateTimeFormat>();

function formatOf(at: string): Intl.DateTimeFormat {
	let f = formats.get(at);
	if (!f) {
		f = new Intl.DateTimeFormat("en-GB", {
			timeZone: at,
			year: "numeric",
			month: "2-digit",
			day: "2-digit",
			hour: "2-digit",
			minute: "2-digit",
			second: "2-digit",
			hourCycle: "h23",
		});
		formats.set(at, f);
	}
	return f;
}

type Parts = { year: string; month: string; day: string; hour: string; minute: string; second: string };

/** The parts of a time in a zone. */
export function partsOf(time: string | number | Date, at = zone()): Parts {
	const out: Record<string, string> = {};
	for (const p of formatOf(at).formatToParts(new Date(time))) {
		out[p.type] = p.value;
	}
	return out as Parts;
}

/** How far a zone is from UTC at a time, in minutes. */
export function offsetOf(time: string | number | Date, at = zone()): number {
	const ms = new Date(time).getTime();
	const p = partsOf(ms, at);
	const wall = Date.UTC(+p.year, +p.month - 1, +p.day, +p.hour, +p.minute, +p.second);
	return Math.round((wall - Math.floor(ms / 1000) * 1000) / 60_000);
}

/** A zone as people can reckon with it: UTC, UTC+1, UTC+5:30. */
export function zoneName(time: string | number | Date, at = zone()): string {
	const off = offsetOf(time, at);
	const h = Math.floor(Math.abs(off) / 60);
	const m = Math.abs(off) % 60;
	return off === 0 ? "UTC" : `UTC${off < 0 ? "−" : "+"}${h}${m ? `:${String(m).padStart(2, "0")}` : ""}`;
}

/** day writes the date of a time: 2026-11-29. */
export function day(time: string | number | Date, at = zone()): string {
	const p = partsOf(time, at);
	return `${p.year}-${p.month}-${p.day}`;
}

/** clock writes a time of day: 10:04:22, or 10:04. */
export function clock(time: string | number | Date, seconds = true, at = zone()): string {
	const p = partsOf(time, at);
	return `${p.hour}:${p.minute}${seconds ? `:${p.second}` : ""}`;
}

/** moment writes a date and a time of day without its zone, for columns whose head names it. */
export const moment = (time: string, seconds = true) => `${day(time)} ${clock(time, seconds)}`;

/** exact writes a time with its zone, as it is told to others. */
export function exact(time: string): string {
	return `${moment(time)} ${zoneName(time)}`;
}

/** fine writes a time of day to the millisecond. */
export function fine(time: string): string {
	return `${clock(time)}.${String(new Date(time).getUTCMilliseconds()).padStart(3, "0")}`;
}

/** The moment at which it is a date and a time of day in a zone; undefined if it is none. */
export function momentAt(text: string, at = zone()): Date | undefined {
	const m = /^(\d{4})-(\d\d)-(\d\d)[T ](\d\d):(\d\d)(?::(\d\d))?$/.exec(text);
	if (!m || Number(m[1]) < 1990) {
		return undefined;
	}
	const [year = 0, month = 0, date = 0, hour = 0, minute = 0, second = 0] = m.slice(1).map((x) => Number(x ?? 0));
	const wall = Date.UTC(year, month - 1, date, hour, minute, second);
	if (Number.isNaN(wall)) {
		return undefined;
	}
	const guess = wall - offsetOf(wall, at) * 60_000;
	return new Date(wall - offsetOf(guess, at) * 60_000);
}
