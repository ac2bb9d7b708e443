import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Fonts stay files of their own: data URLs would be refused by the page's policy.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
});
