// Clips in words.
import type { Clip } from "./api";

export const KINDS = { text: "Text", link: "Link", image: "Picture", files: "Files" } as const;

/** A number of bytes for reading. */
export function size(bytes: number): string {
  if (bytes < 1000) return `${bytes} B`;
  const units = ["kB", "MB", "GB", "TB"];
  let value = bytes / 1000;
  let unit = 0;
  while (value >= 999.95 && unit < units.length - 1) {
    value /= 1000;
    unit += 1;
  }
  return `${value.toFixed(1)} ${units[unit]}`;
}

/** A number and the word for what is counted. */
export const count = (number: number, one: string, many: string): string => `${number.toLocaleString()} ${number === 1 ? one : many}`;

/** How much there is of a clip. */
export function extent(clip: Clip): string {
  if (clip.kind === "files") return count(clip.lines ?? 0, "file", "files");
  if (clip.width && clip.height) return `${clip.width} × ${clip.height} pixels, ${size(clip.size)}`;
  if (clip.lines != null && clip.characters != null) {
    return `${count(clip.lines, "line", "lines")}, ${count(clip.characters, "character", "characters")}`;
  }
  return size(clip.size);
}

/** How a clip stands with the person's other devices, after the name of its own; nothing if they do not know it. */
export const shared = (clip: Clip): string =>
  clip.elsewhere ? ", its content is on another device" : clip.shared ? ", shared with your other devices" : "";

/** What a picture is called where it has no title: its size. */
export const pictureLine = (clip: Clip): string =>
  clip.preview !== "picture" ? clip.preview : clip.width && clip.height ? `${clip.width} × ${clip.height} pixels` : "Picture";

/** A clip in a sentence. */
export const named = (clip: Clip): string => `“${(clip.title ?? (clip.kind === "image" ? pictureLine(clip) : clip.preview)).slice(0, 60)}”`;

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
