// Clips in words.
import { w } from "../words/index.svelte";
import type { Clip, Kind, Rules } from "./api";
import { size, span } from "./format";

/** All kinds, in the order in which they are offered. */
export const KINDS: Kind[] = ["text", "link", "image", "files"];

/** A list with one thing more, or less if it was in it. */
export const toggled = <T>(all: readonly T[], one: T): T[] =>
  all.includes(one) ? all.filter((other) => other !== one) : [...all, one];

/** How much there is of a clip. */
export function extent(clip: Clip): string {
  const { clips } = w();
  if (clip.kind === "files") return clips.files(clip.lines ?? 0);
  if (clip.width && clip.height) return `${clips.pixels(clip.width, clip.height)}, ${size(clip.size)}`;
  if (clip.lines != null && clip.characters != null)
    return `${clips.lines(clip.lines)}, ${clips.characters(clip.characters)}`;
  return size(clip.size);
}

/** Limits in words; empty where there are none. */
export const amounts = (limits: Rules["limits"]): string =>
  [
    limits.count && w().clips.clips(limits.count),
    limits.age_seconds && span(limits.age_seconds),
    limits.bytes && size(limits.bytes),
  ]
    .filter(Boolean)
    .join(", ");

/** One line that says what a clip is. What is sensitive is not shown. */
export function line(clip: Clip): string {
  const { clips } = w();
  if (clip.sensitive) return clips.hidden(clips.secrets[clip.sensitive]);
  if (clip.kind !== "image" || clip.preview !== "picture") return clip.preview;
  return clip.width && clip.height ? clips.pixels(clip.width, clip.height) : clips.kinds.image;
}

/** Characters that turn what follows round, or cannot be seen: out of place in a sentence. */
const UNSEEN = /[\u0000-\u001f\u007f\u200b-\u200f\u202a-\u202e\u2060-\u2069\ufeff]/g;

/** A clip in a sentence. */
export function named(clip: Clip): string {
  const text = Array.from((clip.title ?? line(clip)).replace(UNSEEN, ""));
  return w().clips.quoted(text.length > 60 ? `${text.slice(0, 60).join("")}…` : text.join(""));
}

/** One clip by its name, several by their number. */
export const namedAll = (clips: Clip[]): string =>
  clips.length === 1 && clips[0] ? named(clips[0]) : w().clips.clips(clips.length);

export type Part = { text: string; marked: boolean };

/** A text cut where marks begin and end. Marks count characters, not UTF-16 units. */
export function parts(text: string, marks: readonly { start: number; end: number }[]): Part[] {
  if (marks.length === 0) return [{ text, marked: false }];
  const characters = Array.from(text);
  const cut: Part[] = [];
  let at = 0;
  for (const { start, end } of marks) {
    if (start > at) cut.push({ text: characters.slice(at, start).join(""), marked: false });
    cut.push({ text: characters.slice(start, end).join(""), marked: true });
    at = end;
  }
  if (at < characters.length) cut.push({ text: characters.slice(at).join(""), marked: false });
  return cut;
}
