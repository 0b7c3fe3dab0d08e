// A text with its matches marked. It is put together by hand, since what is found by one letter has dozens of them in each entry,
// with every letter that is typed.
import type { Part } from "../lib/clips";

/** For `{@attach}`: what is in an element. */
export const marked =
  (parts: Part[]) =>
  (element: Element): void => {
    element.replaceChildren(
      ...parts.map(({ text, marked }) => {
        if (!marked) return text;
        const mark = document.createElement("mark");
        mark.textContent = text;
        return mark;
      }),
    );
  };
