import { readdirSync, readFileSync } from "node:fs";
import { expect, test } from "vitest";

const texts = (file: string) =>
	[...readFileSync(`src/locales/${file}`, "utf8").matchAll(/^msgid (".+")\nmsgstr (".*")$/gm)].map(
		([, id, text]) => [JSON.parse(id ?? '""'), JSON.parse(text ?? '""')] as [string, string],
	);

/** What is put into a text, and the elements that stand in it. */
const holes = (text: string) => [...text.matchAll(/\{\w+\}|<\/?\d+\/?>/g)].map((m) => m[0]).sort();

test("every language says everything, with what is put in", () => {
	const english = texts("en.po");
	expect(english.length).toBeGreaterThan(1000);
	for (const file of readdirSync("src/locales").filter((f) => f.endsWith(".po"))) {
		const all = new Map(texts(file));
		for (const [id] of english) {
			const text = all.get(id) ?? "";
			expect(text, `${file} lacks a text for "${id}"`).not.toBe("");
			expect(holes(text), `${file}: "${text}"`).toEqual(holes(id));
		}
	}
});

test("English has names in braces only: it is not parsed in the browser", () => {
	for (const [id] of texts("en.po")) {
		expect(id.replace(/\{\w+\}/g, ""), id).not.toMatch(/[{}]/);
	}
});
