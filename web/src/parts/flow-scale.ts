/** One bar: what it is of, and its parts from the bottom up. */
export type Bar = { label: string; parts: number[] };

export type Scale = "clipped" | "linear" | "log";

const sum = (b: Bar) => b.parts.reduce((n, p) => n + p, 0);

/**
 * The height of a scale. A clipped one is made for the usual hours: a single spike would
 * make all others a line at the bottom; it is cut, and marked.
 */
export function topOf(bars: Bar[], scale: Scale): number {
	const sums = bars.map(sum).sort((a, b) => a - b);
	const highest = sums[sums.length - 1] ?? 0;
	if (scale !== "clipped") {
		return Math.max(highest, 1);
	}
	const used = sums.filter((n) => n > 0);
	const usual = used[Math.floor((used.length - 1) * 0.9)] ?? 0;
	const bound = usual * 1.5;
	return Math.max(used.length >= 5 && highest > bound * 1.33 ? bound : highest, 1);
}

/** The heights of a bar's parts, as shares of the scale, and whether it is cut. */
export function heightsOf(bar: Bar, top: number, scale: Scale): { parts: number[]; cut: boolean } {
	const all = sum(bar);
	if (all === 0) {
		return { parts: bar.parts.map(() => 0), cut: false };
	}
	const whole = scale === "log" ? Math.log1p(all) / Math.log1p(top) : all / top;
	const high = Math.min(whole, 1);
	return { parts: bar.parts.map((p) => (p / all) * high), cut: whole > 1 };
}

/** Round figures at which a scale is marked. */
export function marksOf(top: number, scale: Scale): number[] {
	if (scale === "log") {
		const out = [];
		for (let n = 10; n <= top; n *= 10) {
			out.push(n);
		}
		return out.length > 0 ? out : [Math.floor(top)];
	}
	const rough = top / 3;
	const unit = 10 ** Math.floor(Math.log10(Math.max(rough, 1)));
	const step = ([1, 2, 5, 10].find((m) => m * unit >= rough) ?? 10) * unit;
	const out = [];
	for (let n = step; n <= top; n += step) {
		out.push(n);
	}
	return out;
}
