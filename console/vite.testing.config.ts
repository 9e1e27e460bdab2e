import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The functions of src/testing.ts as one script, for the tests alone.
export default defineConfig({
  plugins: [react()],
  define: { "process.env.NODE_ENV": '"production"' },
  build: { outDir: "testing", minify: false, lib: { entry: "src/testing.ts", formats: ["iife"], name: "pure", fileName: () => "pure.js" } },
});
