import { svelte } from "@sveltejs/vite-plugin-svelte";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  // Each browser that is let in has a path of its own, so nothing can say where it lies from the root.
  base: "./",
  plugins: [tailwindcss(), svelte()],
  build: {
    target: "es2023",
    // Data URLs for small files would only be sent again with every change of the page.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
});
