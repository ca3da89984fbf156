/** Whether a character does something to a terminal in place of being shown. */
function acts(c: string): boolean {
	const code = c === "" ? 0x20 : c.charCodeAt(0);
	return (code < 0x20 && c !== "\n" && c !== "\r" && c !== "\t") || (code >= 0x7f && code < 0xa0);
}

/** Writes records as CSV (RFC 4180). What a spreadsheet would run as a formula is made a text. */
export function toCSV(rows: Record<string, unknown>[]): string {
	const first = rows[0];
	if (!first) {
		return "";
	}
	const names = Object.keys(first);
	const cell = (v: unknown) => {
		let text = v === null || v === undefined ? "" : String(v);
		if ((/^[=+\-@\t\r\n]/.test(text) || acts(text.charAt(0))) && typeof v !== "number") {
			text = `'${text}`;
		}
		text = Array.from(text, (c) => (acts(c) ? `\\x${c.charCodeAt(0).toString(16).padStart(2, "0")}` : c)).join("");
		return /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
	};
	return [names.join(","), ...rows.map((r) => names.map((n) => cell(r[n])).join(","))].join("\r\n");
}

/** Gives a text to the browser as a file. */
export function download(name: string, text: string) {
	save(name, new Blob([text], { type: "text/plain;charset=utf-8" }));
}

/** Gives what there is to the browser as a file. */
export function save(name: string, content: Blob) {
	const url = URL.createObjectURL(content);
	const a = document.createElement("a");
	a.href = url;
	a.download = name;
	a.click();
	URL.revokeObjectURL(url);
}
