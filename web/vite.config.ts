import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

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

export default defineConfig({
	plugins: [react(), compressed()],
	build: {
		outDir: out,
		emptyOutDir: true,
		assetsInlineLimit: 0,
		modulePreload: { polyfill: false },
	},
	server: { proxy: { "/api": process.env.GULL_URL ?? "http://127.0.0.1:8480" } },
});
