const size = new Intl.NumberFormat("en-GB", { maximumSignificantDigits: 3, useGrouping: false });

/** octets writes a size for people: 900 B, 12 kB, 2.5 MB, 3 GB. */
export function octets(n: number): string {
	if (n < 1000) {
		return `${n} B`;
	}
	const units = ["kB", "MB", "GB", "TB"];
	let v = n / 1000;
	while (v >= 999.5 && units.length > 1) {
		v /= 1000;
		units.shift();
	}
	return `${v < 10 ? size.format(Math.round(v * 10) / 10) : Math.round(v)} ${units[0]}`;
}

const number = new Intl.NumberFormat("en-GB");

/** count writes a number with its thousands apart. */
export function count(n: number): string {
	return number.format(n);
}

/** plural chooses a word by its number. */
export function plural(n: number, one: string, many: string): string {
	return `${count(n)} ${n === 1 ? one : many}`;
}

/** soft lets a long address or host break after its dots and "@" only. */
export function soft(text: string): string {
	return text.replace(/[@.]/g, "$&\u200b");
}

/** shown writes an empty sender as the null path. */
export function shown(address: string): string {
	return address === "" ? "<>" : address;
}
