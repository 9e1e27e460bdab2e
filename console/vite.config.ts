import react from "@vitejs/plugin-react";
import { writeFileSync } from "node:fs";
import { defineConfig } from "vite";

// The placeholder keeps the folder in the repository, so that the binary builds without the console.
const placeholder = { name: "placeholder", closeBundle: () => writeFileSync("dist/.gitkeep", "") };

export default defineConfig({
  plugins: [react(), placeholder],
  build: {
    chunkSizeWarningLimit: 900,
    // What every page needs is one file: many small ones compress worse.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "start", test: /node_modules\/(react|react-dom|scheduler|wouter|regexparam|react-is|react-error-boundary|stylis|clsx|@emotion|@tanstack|openapi-[a-z-]+|@mui\/(system|styled-engine|private-theming|utils|material\/(styles|colors|utils|Box|Button|ButtonBase|IconButton|SvgIcon|CircularProgress)))\// }] } } },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7600" } },
});
