// What the page says to the person: one notice at a time, with perhaps one thing to do about it.
import { Refused } from "../lib/api";

export type Notice = { text: string; hint?: string; tone: "done" | "wrong"; action?: { label: string; run: () => Promise<void> } };

class Notices {
  current = $state<Notice>();
  #timer: ReturnType<typeof setTimeout> | undefined;

  /** Says what was done. It goes by itself, unless there is something to do about it. */
  done(text: string, action?: Notice["action"]): void {
    this.#show({ text, tone: "done", action });
    if (!action) this.#timer = setTimeout(() => this.dismiss(), 6_000);
  }

  /** Says what went wrong. It stays until it is dismissed. */
  wrong(error: unknown): void {
    if (error instanceof DOMException && error.name === "AbortError") return;
    const hint = error instanceof Refused ? error.hint : undefined;
    this.#show({ text: error instanceof Error ? error.message : String(error), hint, tone: "wrong" });
  }

  dismiss(): void {
    clearTimeout(this.#timer);
    this.current = undefined;
  }

  #show(notice: Notice): void {
    clearTimeout(this.#timer);
    this.current = notice;
  }
}

export const notices = new Notices();
