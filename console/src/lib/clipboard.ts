// The clipboard of the browser's own computer, which need not be the service's.
import { w } from "../words/index.svelte";
import { content, type ClipDetail } from "./api";

const PLAIN = "text/plain;charset=utf-8";

/** Copies a clip in this browser: a picture as a picture, text with its HTML where there is some. */
export async function copyHere(detail: ClipDetail): Promise<void> {
  const has = (mime: string) => detail.formats.some((format) => format.mime === mime);
  if (typeof ClipboardItem === "undefined" || !navigator.clipboard?.write) {
    // Without a secure context (a phone on the local network) there is only the old way, for text only.
    if (detail.text == null) throw new Error(w().problems.onlyText);
    copyTheOldWay(detail.text);
    return;
  }
  // The content is given as a promise: the browser asks for it while the person's gesture still counts.
  const item: Record<string, Promise<Blob>> = {};
  if (detail.kind === "image" && has("image/png")) {
    item["image/png"] = content(detail.id, "image/png");
  } else {
    item["text/plain"] = plainText(detail);
    if (has("text/html"))
      item["text/html"] = content(detail.id, "text/html").then((blob) => new Blob([blob], { type: "text/html" }));
  }
  await navigator.clipboard.write([new ClipboardItem(item)]);
}

async function plainText(detail: ClipDetail): Promise<Blob> {
  const whole = detail.formats.some((format) => format.mime === PLAIN)
    ? await content(detail.id, PLAIN)
    : (detail.text ?? "");
  return new Blob([whole], { type: "text/plain" });
}

function copyTheOldWay(text: string): void {
  const field = document.createElement("textarea");
  field.value = text;
  field.setAttribute("readonly", "");
  field.className = "fixed top-0 opacity-0";
  const before = document.activeElement;
  document.body.append(field);
  field.select();
  const copied = document.execCommand("copy");
  field.remove();
  if (before instanceof HTMLElement) before.focus();
  if (!copied) throw new Error(w().problems.noCopying);
}
