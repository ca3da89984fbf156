import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
	plugins: [react()],
	build: {
		outDir: "../internal/service/console/dist",
		emptyOutDir: true,
		chunkSizeWarningLimit: 1500,
		assetsInlineLimit: 0,
	},
	server: { proxy: { "/api": process.env.GULL_URL ?? "http://127.0.0.1:8480" } },
});
