import react from "@vitejs/plugin-react";
import { writeFileSync } from "node:fs";
import { defineConfig } from "vite";

// The placeholder keeps the folder in the repository, so that the binary builds without the console.
const placeholder = { name: "placeholder", closeBundle: () => writeFileSync("dist/.gitkeep", "") };

export default defineConfig({
  plugins: [react(), placeholder],
  build: { chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": "http://127.0.0.1:7600" } },
});
