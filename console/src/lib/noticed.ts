// What the service gives people to know, in their language. Its own wording is English.
import { w } from "../words/index.svelte";
import type { Notice } from "./api";
import { span } from "./format";

export function noticed(notice: Notice): string {
  const told = w().notices[notice.kind];
  return told ? told(notice.name ?? "", span(notice.seconds ?? 0)) : notice.message;
}
