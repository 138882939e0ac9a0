import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

process.env.TZ = "UTC"; // what tests say of times is the same everywhere

export default defineConfig({
  base: "./", // the service says where the console is, in the page's base
  plugins: [react()],
  build: { outDir: "../internal/api/web/dist", emptyOutDir: true, target: "es2022", assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:8347" } },
  test: {
    environment: "jsdom",
    globals: false,
    include: ["src/**/*.test.{ts,tsx}"],
    setupFiles: ["src/testing/played.tsx"],
    testTimeout: 30_000,
  },
});
