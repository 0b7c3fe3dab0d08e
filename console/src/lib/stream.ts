// The event stream, shared among tabs: a browser opens only six connections to one origin, and each
// stream takes one. The tab that holds a lock has the stream and tells the others.
import { type ClipChange, place } from "./api";

export type Told =
  | { kind: "clip"; change: ClipChange }
  | { kind: "status" }
  | { kind: "reload" }
  /** Whether the stream is open. */
  | { kind: "line"; open: boolean };

const NAME = "yadori-events";

/** Calls `tell` with all that happens, for as long as the page lives. */
export function follow(tell: (told: Told) => void): void {
  // Locks need a secure context, which a phone on the local network has not: it gets a stream of its own.
  if (!navigator.locks || typeof BroadcastChannel === "undefined") {
    open(tell);
    return;
  }
  const others = new BroadcastChannel(NAME);
  others.onmessage = (message: MessageEvent<Told>) => tell(message.data);
  void navigator.locks.request(NAME, () => {
    open((told) => {
      tell(told);
      others.postMessage(told);
    });
    // The lock is held until the tab is closed.
    return new Promise<never>(() => {});
  });
}

function open(tell: (told: Told) => void): void {
  let first = true;
  const source = new EventSource(`${place}/api/v1/events`);
  source.addEventListener("ready", () => {
    tell({ kind: "line", open: true });
    // What happened between the first page and the first stream.
    if (first) tell({ kind: "reload" });
    first = false;
  });
  source.addEventListener("clip", (event) => {
    const change: ClipChange = JSON.parse(event.data);
    tell({ kind: "clip", change });
  });
  source.addEventListener("status", () => tell({ kind: "status" }));
  source.addEventListener("reload", () => tell({ kind: "reload" }));
  source.addEventListener("error", () => {
    tell({ kind: "line", open: false });
    // The browser tries again by itself, except when it was turned away.
    if (source.readyState === EventSource.CLOSED) setTimeout(() => open(tell), 5_000);
  });
}
