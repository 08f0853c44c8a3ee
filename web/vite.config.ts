import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** land puts the outlines of the land beside the console: maps are drawn by the service. */
const land: Plugin = {
  name: "land",
  generateBundle() {
    this.emitFile({ type: "asset", fileName: "land.json", source: readFileSync(createRequire(import.meta.url).resolve("world-atlas/land-50m.json")) });
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), land],
  build: { emptyOutDir: false, chunkSizeWarningLimit: 900, rollupOptions: { input: ["index.html", "visit.html"] } },
});
