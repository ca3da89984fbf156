import { i18n } from "@lingui/core";

let formats: { of: string; size: Intl.NumberFormat; number: Intl.NumberFormat } | undefined;

/** How numbers are written in the language of the console. */
function written() {
	if (formats?.of !== i18n.locale) {
		const tag = i18n.locale === "en" || !i18n.locale ? "en-GB" : i18n.locale;
		formats = {
			of: i18n.locale,
			size: new Intl.NumberFormat(tag, { maximumSignificantDigits: 3, useGrouping: false }),
			number: new Intl.NumberFormat(tag),
		};
	}
	return formats;
}

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
	return `${v < 10 ? written().size.format(Math.round(v * 10) / 10) : Math.round(v)} ${units[0]}`;
}

/** count writes a number with its thousands apart. */
export function count(n: number): string {
	return written().number.format(n);
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
