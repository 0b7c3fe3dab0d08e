// Whether the history is locked. What a page has shown leaves its memory with the page: it is loaded anew.
import * as api from "../lib/api";
import { hooks } from "../lib/api";
import { run } from "./notices.svelte";
import { service } from "./service.svelte";

class LockState {
  locked = $state(false);

  /** The service says that it is locked. */
  note(): void {
    if (this.locked) return;
    if (service.status.value) location.reload();
    else this.locked = true;
  }

  /** Finds out why the event stream has ended. */
  async check(): Promise<void> {
    try {
      if ((await api.showLock()).state === "locked") this.note();
    } catch {
      // It is away, which is said elsewhere.
    }
  }

  /** Locks the history. */
  async now(): Promise<void> {
    if (await run(api.lockNow)) this.note();
  }
}

export const lock = new LockState();
hooks.locked = () => lock.note();
