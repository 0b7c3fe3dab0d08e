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

/** A whole document to be shown in a frame. Pictures stay only where they lie in the text itself. */
export function safeHtml(html: string): string {
  const purify = DOMPurify();
  purify.addHook("afterSanitizeAttributes", (node) => {
    if (node.tagName === "IMG" && !node.getAttribute("src")?.startsWith("data:image/")) node.remove();
    // Nowhere to go from a sandbox.
    if (node.tagName === "A") node.removeAttribute("href");
  });
  const body = purify.sanitize(html, {
    FORBID_TAGS: FORBIDDEN,
    FORBID_ATTR: ["style", "background", "srcset", "target", "id", "name"],
  });
  return `<!doctype html><meta charset="utf-8"><meta name="color-scheme" content="light"><body dir="auto">${body}</body>`;
}
