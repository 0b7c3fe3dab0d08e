// How the service stands, and the two things that all pages show besides.
import * as api from "../lib/api";
import { w } from "../words/index.svelte";
import { run } from "./notices.svelte";
import { Resource } from "./resource.svelte";

class Service {
  status = new Resource(api.status, { status: true });
  tray = new Resource(api.tray, { parts: ["tray"] });
  /** Whether the event stream is open, so that what is shown is live. */
  live = $state(true);

  get capture() {
    return this.status.value?.capture;
  }

  async pause(seconds?: number): Promise<void> {
    const status = await run(
      () => api.pause(seconds),
      () => w().capture.paused,
    );
    if (status) this.status.take(status);
  }

  async startAtLogIn(starts: boolean): Promise<void> {
    const status = await run(
      () => api.startAtLogIn(starts),
      () => (starts ? w().logIn.starts : w().logIn.startsNot),
    );
    if (status) this.status.take(status);
  }

  async resume(): Promise<void> {
    const status = await run(api.resume, () => w().capture.resumed);
    if (status) this.status.take(status);
  }
}

export const service = new Service();
