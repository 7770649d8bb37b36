import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

const site = "http://127.0.0.1:7310"; // that make dev serves

export default defineConfig({
  plugins: [react(), tailwind()],
  build: { outDir: "../internal/httpapi/web", emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1000 },
  server: { host: "127.0.0.1", port: 7320, strictPort: true, proxy: { "/api": site, "/dav": site } },
});
