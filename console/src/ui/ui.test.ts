import { fireEvent, render, screen } from "@testing-library/svelte";
import { createRawSnippet } from "svelte";
import { describe, expect, it, vi } from "vitest";
import Amount, { unitOf } from "./Amount.svelte";
import Button from "./Button.svelte";
import Menu from "./Menu.svelte";
import { moving } from "./moving";
import Words from "./Words.svelte";

const text = (words: string) => createRawSnippet(() => ({ render: () => `<span>${words}</span>` }));

describe("a button", () => {
  it("shows the key of its command, and says it", () => {
    render(Button, { command: "recall", children: text("Recall") });
    const button = screen.getByRole("button", { name: "Recall" });
    expect(button.getAttribute("aria-keyshortcuts")).toBe("r");
    expect(button.querySelector("kbd")?.textContent).toBe("r");
  });
});

describe("a menu", () => {
  const open = async () => {
    const acts = [vi.fn(), vi.fn()];
    render(Menu, {
      label: "Pause",
      items: [
        { name: "One", run: acts[0]! },
        { name: "Two", run: acts[1]! },
      ],
      children: text("Pause"),
    });
    const opener = screen.getByRole("button", { name: "Pause" });
    await fireEvent.click(opener);
    await vi.waitFor(() => expect(document.activeElement?.getAttribute("role")).toBe("menuitem"));
    return { acts, opener };
  };

  it("is walked by the arrows, round its ends", async () => {
    const { acts } = await open();
    await fireEvent.keyDown(document.activeElement!, { key: "ArrowUp" });
    expect(document.activeElement?.textContent).toContain("Two");
    await fireEvent.click(document.activeElement!);
    expect(acts.map((act) => act.mock.calls.length)).toEqual([0, 1]);
    expect(screen.queryByRole("menu")).toBeNull();
  });

  it("is closed by Escape, and gives the focus back", async () => {
    const { opener } = await open();
    await fireEvent.keyDown(document.activeElement!, { key: "Escape" });
    expect(screen.queryByRole("menu")).toBeNull();
    expect(document.activeElement).toBe(opener);
  });
});

describe("an amount", () => {
  it("is in the largest unit in which it is whole", () => {
    expect(unitOf("bytes", 33_554_432)).toEqual(["MB", 1 << 20]);
    expect(unitOf("seconds", 5_400)).toEqual(["minutes", 60]);
    expect(unitOf("bytes", 500)).toEqual(["kB", 1 << 10]);
  });

  it("tells what it comes to, and nothing that is no amount", async () => {
    const onchange = vi.fn();
    render(Amount, { label: "At most", unit: "seconds", value: 600, onchange });
    const field = screen.getByLabelText<HTMLInputElement>("At most");
    expect(field.value).toBe("10");
    for (const typed of ["15", "", "-3"]) await fireEvent.change(field, { target: { value: typed } });
    expect(onchange.mock.calls).toEqual([[900]]);
  });
});

it("words are put in once, without the space around them, and taken out", async () => {
  const onchange = vi.fn();
  render(Words, { label: "Not from:", values: ["Vault"], onchange });
  const field = screen.getByLabelText("Not from:");
  for (const typed of [" Safe ", "Vault"]) {
    await fireEvent.input(field, { target: { value: typed } });
    await fireEvent.submit(field.closest("form")!);
  }
  await fireEvent.click(screen.getByRole("button", { name: "Take out Vault" }));
  expect(onchange.mock.calls).toEqual([[["Vault", "Safe"]], [[]]]);
});

it("things are moved by keyboard within their order", () => {
  const move = vi.fn();
  const action = moving({ count: () => 3, move });
  const node = document.createElement("li");
  const { update } = action(node, 2);
  const press = (key: string, altKey = true) =>
    node.dispatchEvent(new KeyboardEvent("keydown", { key, altKey, cancelable: true }));
  press("ArrowUp");
  press("ArrowDown", false);
  update(3);
  press("ArrowDown");
  press("ArrowUp");
  expect(move.mock.calls).toEqual([
    [2, 1],
    [3, 2],
  ]);
});
