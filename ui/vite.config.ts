import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [vue()],
  build: { target: "es2022", chunkSizeWarningLimit: 900 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8417", ws: true } } },
  // one window for all files: making one for each took six times as long as all tests
  test: { environment: "jsdom", include: ["src/**/*.test.ts"], isolate: false, pool: "threads", poolOptions: { threads: { singleThread: true } } },
});
