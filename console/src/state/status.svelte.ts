// How the service stands.
import * as api from "../lib/api";
import { notices } from "./notice.svelte";

class ServiceStatus {
  current = $state<api.Status>();
  /** Whether the event stream is open, so that what is shown is live. */
  live = $state(true);

  async load(): Promise<void> {
    try {
      this.current = await api.status();
    } catch (error) {
      notices.wrong(error);
    }
  }

  async pause(seconds?: number): Promise<void> {
    try {
      this.current = await api.pause(seconds);
      notices.done("Paused. Nothing that is copied is kept.");
    } catch (error) {
      notices.wrong(error);
    }
  }

  async resume(): Promise<void> {
    try {
      this.current = await api.resume();
      notices.done("What is copied is kept again.");
    } catch (error) {
      notices.wrong(error);
    }
  }
}

export const service = new ServiceStatus();
