// What tests need.
import type { Clip } from "./lib/api";

/** A clip of which only some matters. */
export const clip = (some: Partial<Clip> = {}): Clip => ({
  id: "aaaa",
  kind: "text",
  preview: "a text",
  copied_at: "2026-11-27T10:00:00Z",
  copies: 1,
  recalls: 0,
  size: 6,
  source: {},
  device: "workshop",
  pinned: false,
  fills: false,
  shared: false,
  elsewhere: false,
  marks: [],
  ...some,
});

/** So many clips, newest first, a minute apart. */
export const clipsOf = (count: number): Clip[] =>
  Array.from({ length: count }, (_, index) =>
    clip({
      id: `clip-${index}`,
      preview: `text ${index}`,
      copied_at: new Date(Date.UTC(2026, 10, 27, 12) - index * 60_000).toISOString(),
    }),
  );
