// Which key does what: as it is at first, or as a person chose in this browser. Help, buttons and the palette read it from here.
import { COMMANDS, type Command } from "./commands.svelte";

const KEY = "yadori-keys";

/** Keys that move about in lists and dialogs, and those that browsers and screen readers have for themselves. */
const TAKEN = new Set([
  "Tab",
  "Enter",
  "Escape",
  " ",
  "ArrowUp",
  "ArrowDown",
  "ArrowLeft",
  "ArrowRight",
  "Home",
  "End",
  "PageUp",
  "PageDown",
  "j",
  "k",
  "Insert",
  "CapsLock",
]);
const OF_BROWSERS = /^(Ctrl|Meta)\+(Shift\+)?[a-z0-9+=_-]$|^Alt\+|^F\d+$/i;

/** What was pressed, written as in the map: "r", "?", "Ctrl+.", "Shift+Delete". */
export function chord(event: Pick<KeyboardEvent, "key" | "ctrlKey" | "metaKey" | "altKey" | "shiftKey">): string {
  const isPrintable = event.key.length === 1;
  return [
    event.ctrlKey && "Ctrl",
    event.metaKey && "Meta",
    event.altKey && "Alt",
    event.shiftKey && !isPrintable && "Shift",
    event.key,
  ]
    .filter(Boolean)
    .join("+");
}

/** Why a key cannot be had, if so. */
export function unfit(
  key: string,
  command: Command,
  held: (key: string) => Command | undefined,
): "taken" | "browser" | { by: Command } | undefined {
  if (TAKEN.has(key)) return "taken";
  if (OF_BROWSERS.test(key)) return "browser";
  const by = held(key);
  return by && by !== command ? { by } : undefined;
}

class Keymap {
  #own = $state<Record<string, string[]>>({});

  start(): void {
    try {
      const stored: unknown = JSON.parse(localStorage.getItem(KEY) ?? "{}");
      if (typeof stored !== "object" || stored === null) return;
      const entries = Object.entries(stored).filter(
        (entry): entry is [string, string[]] =>
          Array.isArray(entry[1]) && entry[1].every((key) => typeof key === "string"),
      );
      this.#own = Object.fromEntries(entries);
    } catch {
      // What cannot be read was never written by this page.
      localStorage.removeItem(KEY);
    }
  }

  keys(command: Command): string[] {
    return this.#own[command.id] ?? command.keys;
  }

  /** Whether there is a command of this id here. */
  has(id: string): boolean {
    return COMMANDS.some((known) => known.id === id);
  }

  /** The first key of a command, by its id. */
  first(id: string): string | undefined {
    const command = COMMANDS.find((known) => known.id === id);
    return command && this.keys(command)[0];
  }

  /** What a key does. */
  held = (key: string): Command | undefined => COMMANDS.find((command) => this.keys(command).includes(key));

  isChanged(command: Command): boolean {
    return command.id in this.#own;
  }

  /** Gives a command these keys; its first ones if none are given. */
  set(command: Command, keys: string[] | undefined): void {
    const own = Object.fromEntries(Object.entries(this.#own).filter(([id]) => id !== command.id));
    this.#own = keys ? { ...own, [command.id]: keys } : own;
    localStorage.setItem(KEY, JSON.stringify(this.#own));
  }
}

export const keymap = new Keymap();
