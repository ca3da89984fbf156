import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import { transformAsync } from "@babel/core";
import { lingui } from "@lingui/vite-plugin";
import react from "@vitejs/plugin-react";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";

const out = "../internal/service/console/dist";

/** Writes each file that shrinks a second and a third time, compressed, for the service to send. */
function compressed(): Plugin {
	return {
		name: "compressed",
		apply: "build",
		closeBundle() {
			for (const e of readdirSync(out, { recursive: true, withFileTypes: true })) {
				const file = join(e.parentPath, e.name);
				if (e.isFile() && /\.(js|css|html|svg|json)$/.test(file)) {
					const content = readFileSync(file);
					const brotli = brotliCompressSync(content, {
						params: { [constants.BROTLI_PARAM_SIZE_HINT]: content.length },
					});
					writeFileSync(`${file}.br`, brotli);
					writeFileSync(`${file}.gz`, gzipSync(content, { level: 9 }));
				}
			}
		},
	};
}

/** Makes calls of what the code says in texts (lingui's macros); English stays in the code. */
function texts(): Plugin {
	return {
		name: "texts",
		enforce: "pre",
		async transform(code, id) {
			if (!/\/src\/.*\.tsx?$/.test(id) || !code.includes("@lingui/")) {
				return null;
			}
			const done = await transformAsync(code, {
				filename: id,
				babelrc: false,
				configFile: false,
				sourceMaps: true,
				parserOpts: { plugins: ["typescript", "jsx"] },
				plugins: [["@lingui/babel-plugin-lingui-macro", { stripMessageField: false }]],
			});
			return done?.code ? { code: done.code, map: done.map } : null;
		},
	};
}

export default defineConfig({
	plugins: [texts(), react(), lingui(), compressed()],
	build: {
		outDir: out,
		emptyOutDir: true,
		assetsInlineLimit: 0,
		modulePreload: { polyfill: false },
	},
	test: { setupFiles: ["src/vitest.ts"] },
	server: { proxy: { "/api": process.env.GULL_URL ?? "http://127.0.0.1:8480" } },
});
