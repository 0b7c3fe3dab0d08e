import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { svelteTesting } from "@testing-library/svelte/vite";
import { defineConfig } from "vitest/config";

export default defineConfig({
  // Each browser that is let in has a path of its own, so nothing can say where it lies from the root.
  base: "./",
  plugins: [tailwindcss(), svelte(), svelteTesting()],
  test: { environment: "happy-dom", include: ["src/**/*.test.ts"], restoreMocks: true, unstubGlobals: true },
  build: {
    target: "es2023",
    // Data URLs for small files would only be sent again with every change of the page.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
});
