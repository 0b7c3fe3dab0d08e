// HTML from a clip, for a frame in a sandbox: cleaned of all that acts, loads or would breach the page's content policy.
import DOMPurify from "dompurify";

const FORBIDDEN = [
  "style",
  "link",
  "meta",
  "base",
  "form",
  "input",
  "button",
  "select",
  "textarea",
  "iframe",
  "object",
  "embed",
  "video",
  "audio",
  "source",
  "svg",
  "math",
];

/**
 * What the page's content policy would block as soon as it is read, and note in the browser's log each time. Safety does not
 * rest on this: it is for quiet only.
 */
const quiet = (html: string): string =>
  html
    .replace(/<style[\s>][\s\S]*?<\/style\s*>|<base\b[^>]*>/gi, "")
    .replace(/<[a-z][^>]*>/gi, (tag) => tag.replace(/\s(?:on\w+|style)\s*=\s*(?:"[^"]*"|'[^']*'|[^\s>]+)/gi, ""));

/** A whole document to be shown in a frame. Pictures stay only where they lie in the text itself. */
export function safeHtml(html: string): string {
  const purify = DOMPurify();
  purify.addHook("afterSanitizeAttributes", (node) => {
    if (node.tagName === "IMG" && !node.getAttribute("src")?.startsWith("data:image/")) node.remove();
    // Nowhere to go from a sandbox.
    if (node.tagName === "A") node.removeAttribute("href");
  });
  // In a document that belongs to no window: nothing is loaded or run while it is read.
  const inert = document.implementation.createHTMLDocument("");
  inert.body.innerHTML = quiet(html);
  purify.sanitize(inert.body, {
    IN_PLACE: true,
    FORBID_TAGS: FORBIDDEN,
    FORBID_ATTR: ["style", "background", "srcset", "target", "id", "name"],
  });
  return `<!doctype html><meta charset="utf-8"><meta name="color-scheme" content="light"><body dir="auto">${inert.body.innerHTML}</body>`;
}
