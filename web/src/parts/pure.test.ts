import { expect, test } from "vitest";
import { messageEnded, periodEnded } from "../api/past";
import { paceOf, restOf, touches } from "../api/touch";
import { quoted } from "../app/page-helps";
import { layoutOf, widthsOf } from "./columns";
import { heightsOf, marksOf, topOf } from "./flow-scale";
import { ago, short, span } from "./lengths";
import { merge } from "./merge";
import { empty, grow, placeOf, rowsOf } from "./spine";
import { toCSV } from "./table-file";
import { octets } from "./text";
import { day, momentAt, zoneName } from "./time";

const event = (kind: string, rest = {}) => ({ at: "", kind, message_id: "m1", node: "n", text: "", ...rest });

test("an event touches what it is about, and no more", () => {
	expect(touches(["trace", "m1"], event("delivered"))).toBe(true);
	expect(touches(["trace", "m2"], event("delivered"))).toBe(false);
	expect(touches(["lane", "L"], event("deferred", { lane: "K" }))).toBe(false);
	expect(touches(["messages", { lane: "L" }], event("deferred", { lane: "L" }))).toBe(true);
	expect(touches(["terms"], event("received"))).toBe(false);
	expect(touches(["draft"], event("setup", { text: "draft" }))).toBe(true);
	expect(touches(["draft"], event("received"))).toBe(false);
	expect(touches(["status"], event("lost"))).toBe(true);
	expect(touches(["me"], event("lost"))).toBe(false);
	expect(restOf(["draft"], true)).toBe(false);
	expect(restOf(["draft"], false)).toBe(10_000);
	expect(paceOf(["status"]).pace).toBeGreaterThanOrEqual(5000);
});

test("what is past is told from what may change", () => {
	const of = (...states: string[]) => ({ deliveries: states.map((state) => ({ state })) });
	expect(messageEnded({ message: of("delivered", "bounced"), generated: [] })).toBe(true);
	expect(messageEnded({ message: of("delivered"), generated: [of("deferred")] })).toBe(false);
	expect(periodEnded({}, "2026-11-01T00:00:00Z", Date.parse("2026-11-02T00:00:00Z"))).toBe(true);
	expect(periodEnded({}, undefined)).toBe(false);
	expect(periodEnded({ archive: 3 }, undefined)).toBe(true);
});

test("two people's changes are brought together", () => {
	const base = { name: "A", port: 25, tls: "off" };
	expect(merge(base, { ...base, name: "B" }, { ...base, port: 26 })).toEqual({
		merged: { name: "B", port: 26, tls: "off" },
		clashes: [],
	});
	const both = merge(base, { ...base, port: 27 }, { ...base, port: 26 });
	expect(both.clashes).toEqual([{ field: "port", base: 25, mine: 27, theirs: 26 }]);
	expect(both.merged.port).toBe(26);
	expect(merge(base, { name: "A", port: 25 }, { ...base, name: "C" }).merged).toEqual({ name: "C", port: 25 });
});

test("a list grows page by page, and loses no row when rows come and go", () => {
	const read = (first: number, n: number, next: string) => ({
		keys: Array.from({ length: n }, (_, i) => `k${first + i}`),
		next,
	});
	let s = grow(empty, 0, read(0, 3, "c3"));
	expect([rowsOf(s), s.more]).toEqual([3, true]);
	s = grow(s, 1, read(3, 3, "c6"));
	expect(placeOf(s, 4)).toEqual({ page: 1, at: 1 });
	// A row of the first page has gone: it reaches into the second, and is cut there.
	const gone = grow(s, 0, { keys: ["k0", "k2", "k3"], next: "c4", behind: ["k3", "k4", "k5"] });
	expect([gone.pages[0]?.count, rowsOf(gone)]).toEqual([2, 5]);
	// One came: what was pushed out is read anew.
	const came = grow(s, 0, { keys: ["new", "k0", "k1"], next: "c2", behind: ["k3", "k4", "k5"] });
	expect(came.pages.map((p) => p.after)).toEqual(["", "c2"]);
	expect(grow(s, 1, read(3, 2, ""))).toMatchObject({ more: false });
});

test("a spike does not flatten the other hours", () => {
	const bars = [10, 12, 11, 9, 10, 500].map((n) => ({ label: "", parts: [n] }));
	const top = topOf(bars, "clipped");
	expect(top).toBeLessThan(30);
	expect(heightsOf(bars[5] ?? { label: "", parts: [] }, top, "clipped")).toEqual({ parts: [1], cut: true });
	expect(topOf(bars, "linear")).toBe(500);
	expect(marksOf(500, "log")).toEqual([10, 100]);
});

test("times, sizes and words are written for people", () => {
	expect([short(45), short(7260), span(5400), ago("2026-11-29T10:00:00Z", Date.parse("2026-11-29T10:02:00Z"))]).toEqual(
		["45s", "2h 01m", "1h 30m", "2m ago"],
	);
	expect(zoneName("2026-07-01T00:00:00Z", "Europe/Berlin")).toBe("UTC+2");
	expect(day("2026-11-29T23:30:00Z", "Europe/Berlin")).toBe("2026-11-30");
	expect(momentAt("2026-03-29T03:30", "Europe/Berlin")?.toISOString()).toBe("2026-03-29T01:30:00.000Z");
	expect(momentAt("0202-11-29T10:00", "UTC")).toBeUndefined();
	expect([octets(900), octets(12_345), octets(2_500_000), octets(3e9)]).toEqual(["900 B", "12 kB", "2.5 MB", "3 GB"]);
	expect(quoted("it's")).toBe(`'it'\\''s'`);
	expect(toCSV([{ a: "=1+1", b: 'say "x"' }])).toBe(`a,b\r\n'=1+1,"say ""x"""`);
	expect(widthsOf([{ width: 100 }, { width: 100, grow: 1 }], 300)).toEqual([100, 200]);
	const columns = [{ key: "a" }, { key: "b" }].map((c) => ({ ...c, title: "", width: 1, cell: () => null }));
	expect(layoutOf(columns, { columns: [{ key: "b" }, { key: "gone" }] })).toEqual([{ key: "b" }]);
});
