// What the page says to the person, one notice at a time, with perhaps one thing to do about it; and the one way in which
// anything is done.
import { Refused } from "../lib/api";
import { wording } from "../lib/problems";

export type Action = { label: string; run: () => Promise<unknown> };
export type Notice = { text: string; hint?: string | undefined; tone: "done" | "wrong"; action?: Action | undefined };
export type Said = { text: string; action?: Action | undefined };

/** How long a notice stays that asks for nothing, in milliseconds. */
const STAY = 6_000;

class Notices {
  current = $state.raw<Notice>();
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** Says what was done. It goes by itself, unless there is something to do about it. */
  done(text: string, action?: Action): void {
    this.#show({ text, tone: "done", action });
    if (!action) this.#timer = setTimeout(() => this.dismiss(), STAY);
  }

  /** Says what went wrong. It stays until it is dismissed. */
  wrong(error: unknown): void {
    if (error instanceof DOMException && error.name === "AbortError") return;
    const { text, hint } = wording(error);
    this.#show({ text, hint, tone: "wrong" });
  }

  dismiss(): void {
    clearTimeout(this.#timer);
    this.current = undefined;
  }

  /** The service is back: that it was away is over. */
  cameBack(): void {
    if (this.current?.tone === "wrong") this.dismiss();
  }

  /** Another page is shown: what went wrong on the one before is over, what can be undone is not. */
  leave(): void {
    if (this.current?.tone === "wrong") this.dismiss();
  }

  #show(notice: Notice): void {
    clearTimeout(this.#timer);
    this.current = notice;
  }
}

export const notices = new Notices();

/**
 * Does something: says what was done, or what went wrong. Gives what came of it, or nothing if it failed.
 * `refused` may deal with a refusal by itself, and says whether it did.
 */
export async function run<T>(
  work: () => Promise<T>,
  say?: (done: T) => Said | string | undefined,
  refused?: (error: Refused) => boolean,
): Promise<T | undefined> {
  try {
    const done = await work();
    const said = say?.(done);
    if (typeof said === "string") notices.done(said);
    else if (said) notices.done(said.text, said.action);
    return done;
  } catch (error) {
    if (!(error instanceof Refused && refused?.(error))) notices.wrong(error);
    return undefined;
  }
}
