import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Fonts stay files of their own: data URLs would be refused by the page's policy.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  // How quick a machine is decides no test.
  test: { testTimeout: 60_000 },
});
