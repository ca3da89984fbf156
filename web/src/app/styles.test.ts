import { existsSync, readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { expect, test } from "vitest";

test("every component that is used has its styles", () => {
	const files = readdirSync("src", { recursive: true, encoding: "utf8" }).filter((f) => f.endsWith(".tsx"));
	const styles = readFileSync("src/app/styles.ts", "utf8");
	const missing = new Set<string>();
	for (const file of files) {
		const text = readFileSync(join("src", file), "utf8");
		for (const [, names] of text.matchAll(/import \{([^}]*)\} from "@mantine\/core"/g)) {
			for (const name of (names ?? "").split(",").map((n) =>
				n
					.trim()
					.replace(/^type /, "")
					.replace(/ as .*/, ""),
			)) {
				const sheet = `@mantine/core/styles/${name}.layer.css`;
				if (name && existsSync(`node_modules/${sheet}`) && !styles.includes(sheet) && !text.includes(sheet)) {
					missing.add(name);
				}
			}
		}
	}
	expect([...missing]).toEqual([]);
});
