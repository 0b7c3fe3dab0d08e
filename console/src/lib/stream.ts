// The event stream, shared among tabs: a browser opens only six connections to one origin, and each
// stream takes one. The tab that holds a lock has the stream and tells the others.
import { type ClipChange, type Part, place } from "./api";
import type { components } from "./schema";

export type Told =
  | { kind: "clip"; change: ClipChange }
  | { kind: "status" }
  | { kind: "part"; part: Part }
  | { kind: "reload" }
  /** Whether the stream is open. */
  | { kind: "line"; open: boolean };

const NAME = "yadori-events";

/** How long a stream that was turned away rests before it is opened again, in milliseconds. */
const REST = 5_000;

/** Calls `tell` with all that happens, for as long as the page lives. */
export function follow(tell: (told: Told) => void): void {
  // Locks need a secure context: without one the page has a stream of its own.
  if (!navigator.locks || typeof BroadcastChannel === "undefined") {
    open(tell);
    return;
  }
  const others = new BroadcastChannel(NAME + place);
  others.onmessage = (message: MessageEvent<Told | "how is the line?">) => {
    if (message.data !== "how is the line?") tell(message.data);
  };
  void navigator.locks.request(NAME + place, () => {
    let line: Told | undefined;
    others.onmessage = (message: MessageEvent<Told | "how is the line?">) => {
      if (message.data === "how is the line?" && line) others.postMessage(line);
    };
    open((told) => {
      if (told.kind === "line") line = told;
      tell(told);
      others.postMessage(told);
    });
    // The lock is held until the tab is closed.
    return new Promise<never>(() => {});
  });
  // A tab that comes later hears from the one that leads.
  others.postMessage("how is the line?");
}

function open(tell: (told: Told) => void): void {
  let opened = false;
  const source = new EventSource(`${place}/api/v1/events`);
  source.addEventListener("ready", () => {
    tell({ kind: "line", open: true });
    // What happened between the first page and the first stream. A stream that is taken up again tells what was missed,
    // of clips; the rest is asked for.
    tell(opened ? { kind: "status" } : { kind: "reload" });
    opened = true;
  });
  source.addEventListener("clip", (event) => {
    const change: ClipChange = JSON.parse(event.data);
    tell({ kind: "clip", change });
  });
  source.addEventListener("part", (event) => {
    const { part }: components["schemas"]["PartChange"] = JSON.parse(event.data);
    tell({ kind: "part", part });
  });
  source.addEventListener("status", () => tell({ kind: "status" }));
  source.addEventListener("reload", () => tell({ kind: "reload" }));
  source.addEventListener("error", () => {
    tell({ kind: "line", open: false });
    // The browser tries again by itself, except when it was turned away.
    if (source.readyState === EventSource.CLOSED) setTimeout(() => open(tell), REST);
  });
}
