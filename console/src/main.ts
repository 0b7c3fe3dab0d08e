import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource-variable/literata/wght.css";
import { mount } from "svelte";
import App from "./App.svelte";
import "./app.css";
import { keymap } from "./state/keymap.svelte";
import { preferences } from "./state/preferences.svelte";
import { language } from "./words/index.svelte";

preferences.start();
keymap.start();
void language.start().then(() => {
  const target = document.getElementById("app");
  if (target) mount(App, { target });
});
