// Something that is asked for once, and again when the stream tells that it has changed.
import type { Part } from "../lib/api";
import { hear } from "./live";
import { notices } from "./notices.svelte";

/** How long changes are gathered before they are asked for, in milliseconds. */
const GATHER = 60;

type What = { parts?: Part[]; status?: boolean; clips?: boolean };

export class Resource<T> {
  value = $state.raw<T>();
  #ask: () => Promise<T>;
  #what: What;
  #latest = 0;
  #gathering: ReturnType<typeof setTimeout> | undefined;

  constructor(ask: () => Promise<T>, what: What) {
    this.#ask = ask;
    this.#what = what;
  }

  /** Asks for it. An answer that is overtaken by a later one is not shown. */
  async load(): Promise<void> {
    const mine = ++this.#latest;
    try {
      const value = await this.#ask();
      if (mine === this.#latest) this.value = value;
    } catch (error) {
      if (mine === this.#latest) notices.wrong(error);
    }
  }

  /** Takes an answer that came with something else. */
  take(value: T): void {
    this.#latest += 1;
    this.value = value;
  }

  /** Loads it and keeps it up to date; for an `$effect`, which ends it. */
  watch(): () => void {
    void this.load();
    const soon = () => {
      clearTimeout(this.#gathering);
      this.#gathering = setTimeout(() => void this.load(), GATHER);
    };
    const end = hear({
      reload: soon,
      ...(this.#what.status ? { status: soon } : {}),
      ...(this.#what.clips ? { clip: soon } : {}),
      part: (part) => this.#what.parts?.includes(part) && soon(),
    });
    return () => {
      clearTimeout(this.#gathering);
      end();
    };
  }
}
