import js from "@eslint/js";
import svelte from "eslint-plugin-svelte";
import globals from "globals";
import ts from "typescript-eslint";
import config from "./svelte.config.js";

export default ts.config(
  { ignores: ["dist/", "src/lib/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  {
    files: ["**/*.svelte", "**/*.svelte.ts"],
    languageOptions: { parserOptions: { parser: ts.parser, extraFileExtensions: [".svelte"], svelteConfig: config } },
  },
  {
    rules: {
      // The compiler knows types, and says what is not defined.
      "no-undef": "off",
      eqeqeq: ["error", "always", { null: "ignore" }],
      // Characters that cannot be seen are what some patterns are about.
      "no-control-regex": "off",
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_", varsIgnorePattern: "^_" }],
      // Dates, sets and maps are made, read and let go of here; where one is watched, it is Svelte's.
      "svelte/prefer-svelte-reactivity": "off",
      // Routes are written by `href`, not by a framework.
      "svelte/no-navigation-without-resolve": "off",
    },
  },
);
