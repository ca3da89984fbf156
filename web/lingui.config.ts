import { defineConfig } from "@lingui/cli";
import { formatter } from "@lingui/format-po";

/** The texts of the console: English stands in the code, every other language in a file of its own. */
export default defineConfig({
	sourceLocale: "en",
	locales: ["en", "de"],
	catalogs: [{ path: "src/locales/{locale}", include: ["src"] }],
	format: formatter({ origins: false }),
	orderBy: "message",
});
