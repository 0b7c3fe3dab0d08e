// The ledger: the clips that are listed, where one stands among them, and what is unfolded.
import * as api from "../lib/api";
import type { Clip, ClipChange, ClipDetail } from "../lib/api";
import { dayKey, dayLabel } from "../lib/days";
import { named } from "../lib/words";
import { copyHere } from "../lib/clipboard";
import { notices } from "./notice.svelte";

export type Row = { kind: "day"; key: string; label: string } | { kind: "entry"; key: string; clip: Clip; place: number };

class Ledger {
  /** What is searched for; the history when empty. */
  query = $state("");
  clips = $state.raw<Clip[]>([]);
  total = $state(0);
  /** Whether the first page has come. */
  loaded = $state(false);
  /** The query that cannot be understood, and why. */
  misunderstood = $state<string>();
  /** The entry that the keyboard is at. */
  active = $state<string>();
  /** The entry that is unfolded, and what is known of it. */
  unfolded = $state<string>();
  detail = $state.raw<ClipDetail>();
  /** Raised to have the active entry brought into view and focused. */
  focusWanted = $state(0);

  #next: string | undefined;
  #loading: AbortController | undefined;
  #refreshing: ReturnType<typeof setTimeout> | undefined;

  /** Days and entries, as they follow one another on the page. */
  rows = $derived.by((): Row[] => {
    const rows: Row[] = [];
    const now = new Date();
    let day = "";
    this.clips.forEach((clip, index) => {
      const at = new Date(clip.copied_at);
      if (!this.query && dayKey(at) !== day) {
        day = dayKey(at);
        rows.push({ kind: "day", key: `day ${day}`, label: dayLabel(at, now) });
      }
      rows.push({ kind: "entry", key: clip.id, clip, place: index + 1 });
    });
    return rows;
  });

  get more(): boolean {
    return this.#next !== undefined;
  }

  /** Lists from the top, for the query as it is. */
  async load(): Promise<void> {
    this.#loading?.abort();
    const loading = new AbortController();
    this.#loading = loading;
    try {
      const page = await api.list(this.query.trim(), undefined, loading.signal);
      this.#keepPlace(page.clips);
      this.clips = page.clips;
      this.total = page.total;
      this.#next = page.next ?? undefined;
      this.loaded = true;
      this.misunderstood = undefined;
    } catch (error) {
      if (error instanceof api.Refused && error.kind === "urn:yadori:problem:bad-query") this.misunderstood = error.message;
      else notices.wrong(error);
    } finally {
      if (this.#loading === loading) this.#loading = undefined;
    }
  }

  /** Lists on, when the end comes into view. */
  async loadMore(): Promise<void> {
    if (!this.#next || this.#loading) return;
    const loading = new AbortController();
    this.#loading = loading;
    try {
      const page = await api.list(this.query.trim(), this.#next, loading.signal);
      const known = new Set(this.clips.map((clip) => clip.id));
      this.clips = [...this.clips, ...page.clips.filter((clip) => !known.has(clip.id))];
      this.#next = page.next ?? undefined;
    } catch (error) {
      notices.wrong(error);
    } finally {
      if (this.#loading === loading) this.#loading = undefined;
    }
  }

  search(query: string): void {
    this.query = query;
    void this.load();
  }

  /** A clip has changed somewhere: brings the page up to date. */
  apply(change: ClipChange): void {
    this.total = change.total;
    if (this.query.trim()) {
      // Where it ranks is for the service to say; once for many changes.
      clearTimeout(this.#refreshing);
      this.#refreshing = setTimeout(() => void this.load(), 150);
      return;
    }
    const { clip } = change;
    const without = this.clips.filter((known) => known.id !== change.id);
    if (clip) {
      const place = without.findIndex((known) => known.copied_at <= clip.copied_at);
      // Beyond what is listed it will come with the next page.
      if (place >= 0) without.splice(place, 0, clip);
      else if (!this.#next) without.push(clip);
    }
    this.#keepPlace(without);
    this.clips = without;
    if (clip && this.detail?.id === clip.id) this.detail = { ...this.detail, ...clip };
  }

  /** Entries go: what then stands in the place of the active one becomes active, and keeps the focus if it had it. */
  #keepPlace(left: Clip[]): void {
    if (this.unfolded && !left.some((clip) => clip.id === this.unfolded)) this.fold();
    if (!this.active || left.some((clip) => clip.id === this.active)) return;
    const place = this.clips.findIndex((clip) => clip.id === this.active);
    // One that has just been brought back is still to come.
    if (place < 0) return;
    const hadFocus = document.activeElement?.closest(`[aria-labelledby="line-${this.active}"]`) != null;
    this.active = (left[place] ?? left.at(-1))?.id;
    if (hadFocus) this.focusWanted += 1;
  }

  /** Moves from the active entry by so many, or to the first or the last. */
  move(by: number | "first" | "last"): void {
    const at = this.clips.findIndex((clip) => clip.id === this.active);
    const wanted = by === "first" ? 0 : by === "last" ? this.clips.length - 1 : at < 0 ? 0 : at + by;
    const clip = this.clips[Math.max(0, Math.min(this.clips.length - 1, wanted))];
    if (!clip) return;
    this.active = clip.id;
    this.focusWanted += 1;
    if (wanted >= this.clips.length - 20) void this.loadMore();
  }

  async toggle(clip: Clip): Promise<void> {
    this.active = clip.id;
    if (this.unfolded === clip.id) {
      this.fold();
      return;
    }
    this.unfolded = clip.id;
    this.detail = undefined;
    try {
      const detail = await api.show(clip.id);
      if (this.unfolded === clip.id) this.detail = detail;
    } catch (error) {
      notices.wrong(error);
    }
  }

  fold(): void {
    this.unfolded = undefined;
    this.detail = undefined;
  }

  /** Puts a clip on the clipboard of the service's computer. */
  async recall(clip: Clip, plain = false): Promise<void> {
    try {
      await api.recall(clip.id, plain);
      notices.done(`${named(clip)} is on the clipboard${plain ? " as plain text" : ""}.`);
    } catch (error) {
      notices.wrong(error);
    }
  }

  /** Copies a clip in this browser. */
  async copyHere(clip: Clip): Promise<void> {
    try {
      await copyHere(this.detail?.id === clip.id ? this.detail : await api.show(clip.id));
      notices.done(`${named(clip)} is copied in this browser.`);
    } catch (error) {
      notices.wrong(error);
    }
  }

  async remove(clip: Clip): Promise<void> {
    try {
      const { step } = await api.remove(clip.id);
      notices.done(`${named(clip)} is deleted.`, { label: "Undo", run: () => this.undo(step ?? undefined) });
    } catch (error) {
      notices.wrong(error);
    }
  }

  async undo(step?: number): Promise<void> {
    try {
      const { clips } = await api.undo(step);
      const [first] = clips;
      notices.done(clips.length === 1 && first ? `${named(first)} is back.` : `${clips.length} clips are back.`);
      if (first) {
        this.active = first.id;
        this.focusWanted += 1;
      }
    } catch (error) {
      notices.wrong(error);
    }
  }

  async add(text: string): Promise<boolean> {
    try {
      await api.add(text);
      notices.done("Added to the history.");
      return true;
    } catch (error) {
      notices.wrong(error);
      return false;
    }
  }

  activeClip(): Clip | undefined {
    return this.clips.find((clip) => clip.id === this.active);
  }
}

export const ledger = new Ledger();
