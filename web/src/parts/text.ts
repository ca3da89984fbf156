/** octets writes a size for people. */
export function octets(n: number): string {
	if (n < 10_000) {
		return `${n} B`;
	}
	return n < 10_000_000 ? `${Math.round(n / 1000)} KB` : `${(n / 1e6).toFixed(1).replace(/\.0$/, "")} MB`;
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
