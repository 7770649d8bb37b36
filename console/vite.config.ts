import tailwind from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwind()],
  build: { outDir: "../internal/httpapi/web", emptyOutDir: true, chunkSizeWarningLimit: 900 },
});
