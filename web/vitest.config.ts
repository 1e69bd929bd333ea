import { svelte } from "@sveltejs/vite-plugin-svelte";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [svelte()],
  // The first import of a file compiles what it needs, which takes seconds where the decoders are compiled beside.
  test: { include: ["tests/*.test.ts"], testTimeout: 60_000 },
});
