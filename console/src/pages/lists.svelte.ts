// The lists that outlive their pages, so that going back finds them where they were left.
import * as api from "../lib/api";
import { ClipList, type Listing, type Row } from "../list/list.svelte";
import { relative } from "../lib/format";
import { w } from "../words/index.svelte";

const whole = (clips: api.Clip[]): Listing => ({ clips, total: clips.length });

/** The history, and what is searched in it. */
export const history = new ClipList({
  // While one types, a screenful is soon there; the rest comes as one goes on.
  fetch: (q, cursor, signal) => api.list(q, cursor, signal, q && !cursor ? 40 : 100),
  isHistory: true,
});

/** The pinned clips, in their order. */
export const pinned = (): ClipList =>
  new ClipList({
    fetch: async () => whole(await api.pins()),
    concerns: (change, list) => change.clip?.pinned === true || list.clips.some((clip) => clip.id === change.id),
  });

/** A drawer that was renamed, removed or closed meanwhile has nothing in it. */
function ofNone(error: unknown): Pick<api.DrawerContents, "items"> {
  const none: api.Refused["kind"][] = ["urn:yadori:problem:no-such-drawer", "urn:yadori:problem:drawer-closed"];
  if (error instanceof api.Refused && none.includes(error.kind)) return { items: [] };
  throw error;
}

/** What lies in a drawer, with its headings. */
export const drawer = (name: string): ClipList =>
  new ClipList({
    fetch: async (_, __, signal) => {
      const { items } = await api.drawer(name, signal).catch(ofNone);
      const rows = items.flatMap((item): Row[] => {
        if (item.clip) return [{ kind: "entry", key: item.clip.id, clip: item.clip, place: item.place }];
        return item.heading
          ? [{ kind: "heading", key: `heading ${item.place} ${item.heading}`, words: item.heading, place: item.place }]
          : [];
      });
      return { ...whole(items.flatMap((item) => item.clip ?? [])), rows };
    },
    concerns: (change, list) => change.clip?.drawer === name || list.clips.some((clip) => clip.id === change.id),
    hearsOfDrawers: true,
  });

/** What waits in the bin. */
export const bin = (): ClipList =>
  new ClipList({
    fetch: async (_, cursor) => {
      const skipped = Number(cursor ?? 0);
      const { clips, total } = await api.bin(skipped);
      const next = skipped + clips.length < total && clips.length > 0 ? String(skipped + clips.length) : undefined;
      const notes = clips.map(({ clip, until }): [string, string] => [
        clip.id,
        w().bin.goes(relative(new Date(until))),
      ]);
      return { clips: clips.map(({ clip }) => clip), total, next, notes };
    },
  });
