import { expect, it } from "vitest";
import { marked } from "./marked";

it("puts text and marks side by side, and markup as text", () => {
  const element = document.createElement("p");
  marked([{ text: "no longer there", marked: false }])(element);
  marked([
    { text: "<b>the ", marked: false },
    { text: "lamp", marked: true },
  ])(element);
  expect(element.innerHTML).toBe("&lt;b&gt;the <mark>lamp</mark>");
});
