import { beforeEach, describe, expect, it } from "vitest";
import { en } from "../words/en";
import { COMMANDS } from "./commands.svelte";
import { chord, keymap, unfit } from "./keymap.svelte";

const press = (key: string, mods: Partial<Record<"ctrlKey" | "metaKey" | "altKey" | "shiftKey", boolean>> = {}) =>
  chord({ key, ctrlKey: false, metaKey: false, altKey: false, shiftKey: false, ...mods });

beforeEach(() => {
  for (const command of COMMANDS) keymap.set(command, undefined);
});

it("keys are written as they are printed", () => {
  expect(press("?", { shiftKey: true })).toBe("?");
  expect(press("ArrowDown", { shiftKey: true })).toBe("Shift+ArrowDown");
  expect(press(".", { ctrlKey: true })).toBe("Ctrl+.");
});

describe("the keys as they are at first", () => {
  const all = COMMANDS.flatMap((command) => command.keys.map((key) => [command, key] as const));

  it("belong to one command each, and to no browser or screen reader", () => {
    expect(new Set(all.map(([, key]) => key)).size).toBe(all.length);
    for (const [command, key] of all) expect(unfit(key, command, keymap.held), key).toBeUndefined();
  });

  it("every command has a name of its own", () => {
    const names = COMMANDS.map((command) => en.commands[command.id]);
    expect(names).not.toContain(undefined);
    expect(new Set(names).size).toBe(names.length);
  });
});

describe("keys that a person chooses", () => {
  const [pin, recall] = ["pin", "recall"].map((id) => COMMANDS.find((command) => command.id === id));
  if (!pin || !recall) throw new Error("these are commands");

  it("are kept, and can be reset", () => {
    keymap.set(pin, ["F"]);
    keymap.start();
    expect([keymap.held("F"), keymap.held("p")]).toEqual([pin, undefined]);
    keymap.set(pin, undefined);
    expect(keymap.first("pin")).toBe("p");
  });

  it("are refused where they would clash", () => {
    expect(unfit("Enter", pin, keymap.held)).toBe("taken");
    expect(unfit("Ctrl+t", pin, keymap.held)).toBe("browser");
    expect(unfit("Alt+ArrowLeft", pin, keymap.held)).toBe("browser");
    expect(unfit("r", pin, keymap.held)).toEqual({ by: recall });
    expect(unfit("p", pin, keymap.held)).toBeUndefined();
  });

  it("that were spoiled in the browser's store do no harm", () => {
    for (const spoiled of ["{", "null", '{"pin":5,"recall":["z"]}']) {
      localStorage.setItem("yadori-keys", spoiled);
      keymap.start();
      expect(keymap.first("pin")).toBe("p");
    }
    expect(keymap.first("recall")).toBe("z");
  });
});
