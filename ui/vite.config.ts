import { fileURLToPath } from "node:url";
import { defineConfig } from "vite";

export default defineConfig({
  esbuild: { jsx: "automatic" },
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  css: { preprocessorOptions: { scss: { quietDeps: true, silenceDeprecations: ["import", "if-function"] } } },
  build: {
    chunkSizeWarningLimit: 900,
    rollupOptions: {
      onwarn(warning, report) {
        // Libraries mark their files for servers that render; here everything runs in the browser.
        if (warning.code !== "MODULE_LEVEL_DIRECTIVE") report(warning);
      },
    },
  },
  server: { proxy: { "/api": process.env.FLINCH_API ?? "http://127.0.0.1:8750" } },
});
