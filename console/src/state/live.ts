// What listens to the event stream: whoever shows something says what it wants to hear of.
import type { ClipChange, Part } from "../lib/api";
import { follow, type Told } from "../lib/stream";

type Hears = {
  clip?: (change: ClipChange) => void;
  status?: () => void;
  part?: (part: Part) => void;
  /** More has changed than was told: everything is to be asked for anew. */
  reload: () => void;
};

const hearing = new Set<Hears>();

/** Hears of what happens until the function that is given back is called. */
export function hear(hears: Hears): () => void {
  hearing.add(hears);
  return () => hearing.delete(hears);
}

/** Passes on what the stream tells. */
export function pass(told: Told): void {
  for (const hears of hearing) {
    if (told.kind === "clip") hears.clip?.(told.change);
    else if (told.kind === "status") hears.status?.();
    else if (told.kind === "part") hears.part?.(told.part);
    else if (told.kind === "reload") hears.reload();
  }
}

/** Begins to listen. */
export const listen = (line: (open: boolean) => void): void =>
  follow((told) => (told.kind === "line" ? line(told.open) : pass(told)));
