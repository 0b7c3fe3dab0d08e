// A list of clips: what is in it, where one stands, what is chosen and what is unfolded. Each page has one of its own, and gives
// it to its parts by context.
import { getContext, setContext, untrack } from "svelte";
import { SvelteSet } from "svelte/reactivity";
import * as api from "../lib/api";
import type { Clip, ClipChange, ClipDetail } from "../lib/api";
import { dayKey, dayLabel } from "../lib/format";
import { hear } from "../state/live";
import { notices } from "../state/notices.svelte";

export type Row =
  | { kind: "day"; key: string; label: string }
  | { kind: "heading"; key: string; words: string; place: number }
  | { kind: "entry"; key: string; clip: Clip; place: number; note?: string | undefined };

/** What a source gives: a page of clips, and the heading that stands before some, by the clip's id. */
export type Listing = {
  clips: Clip[];
  total: number;
  next?: string | null | undefined;
  rows?: Row[];
  /** A word about some, by their ids. */
  notes?: [string, string][];
};

/** Where the clips of a list are from. */
export type Source = {
  fetch: (q: string, cursor: string | undefined, signal: AbortSignal) => Promise<Listing>;
  /** Whether it is the history itself, newest first: then a change is put in its place without asking. */
  isHistory?: boolean;
  /** Whether a change of a clip makes it worth asking again; always, if not given. */
  concerns?: (change: ClipChange, list: ClipList) => boolean;
  /** Whether drawers that change do. */
  hearsOfDrawers?: boolean;
};

/** How long changes are gathered before a list is asked for again, in milliseconds. */
const GATHER = 120;

/** How far one looks for an entry that an address names, in entries; beyond that it is shown by itself. */
const FAR = 2_000;

/** Entries that one command is about, at most: the service takes no more at once. */
const AT_ONCE = 1_000;

export class ClipList {
  query = $state("");
  clips = $state.raw<Clip[]>([]);
  total = $state(0);
  /** Whether the first page has come. */
  loaded = $state(false);
  /** The query whose answer is listed. */
  answered = $state("");
  /** Why the query cannot be understood. */
  misunderstood = $state<unknown>();
  /** The entry that the keyboard is at. */
  active = $state<string>();
  /** The entries that are chosen together. */
  chosen = new SvelteSet<string>();
  unfolded = $state<string>();
  detail = $state.raw<ClipDetail>();
  /** Raised to have the active entry brought into view and focused. */
  focusWanted = $state(0);
  /** Copies that came above what is being read. */
  unseen = $state(0);
  /** Whether the list is scrolled away from its top. Set by what shows it. */
  scrolled = false;
  /** Whether the last change was above what is shown, so that what is read must not move. */
  shifting = $state(false);
  /** The row at the top of what is shown, and how far it is scrolled out, in pixels. */
  reading: { key: string; by: number } | undefined;

  #next = $state<string>();
  #rows = $state.raw<Row[]>();
  #notes = new Map<string, string>();
  #loading: AbortController | undefined;
  /** Changes that were told while an answer was under way, which may be older than they are. */
  #meanwhile: ClipChange[] = [];
  #gathering: ReturnType<typeof setTimeout> | undefined;
  #anchor: string | undefined;
  /** The entry that an address names, and who waits for it. */
  #sought: { id: string; done: (found: boolean) => void } | undefined;
  /** Whether it asks for nothing, since what is listed may be about to go. */
  #resting = false;
  #source: Source;

  constructor(source: Source) {
    this.#source = source;
  }

  rows = $derived.by((): Row[] => {
    if (this.#rows) return this.#rows;
    const rows: Row[] = [];
    const now = new Date();
    let day = "";
    this.clips.forEach((clip, index) => {
      const at = new Date(clip.copied_at);
      if (this.#source.isHistory && !this.query.trim() && dayKey(at) !== day) {
        day = dayKey(at);
        rows.push({ kind: "day", key: `day ${day}`, label: dayLabel(at, now) });
      }
      rows.push({ kind: "entry", key: clip.id, clip, place: index + 1, note: this.#notes.get(clip.id) });
    });
    return rows;
  });

  /** Whether there is more than is listed. */
  get more(): boolean {
    return this.#next !== undefined;
  }

  /** Whether the places of its entries are those by which clips are named. */
  get isHistory(): boolean {
    return this.#source.isHistory ?? false;
  }

  /** Whether entries stand under their days. */
  get byDay(): boolean {
    return (this.#source.isHistory ?? false) && !this.query.trim();
  }

  /** Loads it and keeps it up to date; for an `$effect`, which ends it. */
  watch(): () => void {
    // What is read on the way does not start it anew.
    untrack(() => void this.load());
    const end = hear({
      clip: (change) => this.#apply(change),
      part: (part) => part === "drawers" && this.#source.hearsOfDrawers && this.#soon(),
      reload: () => void this.load(),
    });
    return () => {
      clearTimeout(this.#gathering);
      end();
    };
  }

  /** Lists from the top, for the query as it is; as far as it was listed, when `whole`. */
  async load(whole = this.clips.length): Promise<void> {
    if (this.#resting) return;
    this.#loading?.abort();
    const loading = new AbortController();
    this.#loading = loading;
    const q = this.query.trim();
    try {
      let page = await this.#source.fetch(q, undefined, loading.signal);
      let clips = page.clips;
      const notes = new Map(page.notes);
      const lacks = (id?: string) => id !== undefined && clips.length < FAR && !clips.some((clip) => clip.id === id);
      while (page.next && (clips.length < whole || lacks(this.#sought?.id))) {
        page = await this.#source.fetch(q, page.next, loading.signal);
        clips = [...clips, ...page.clips];
        for (const [id, note] of page.notes ?? []) notes.set(id, note);
      }
      this.shifting = false;
      this.#keepPlace(clips);
      this.#notes = notes;
      this.clips = clips;
      this.#rows = page.rows;
      this.total = page.total;
      this.#next = page.next ?? undefined;
      this.loaded = true;
      this.misunderstood = undefined;
      this.#sought?.done(this.clips.some((clip) => clip.id === this.#sought?.id));
      this.#sought = undefined;
    } catch (error) {
      if (error instanceof api.Refused && error.kind === "urn:yadori:problem:bad-query") this.misunderstood = error;
      else notices.wrong(error);
    } finally {
      if (this.#loading === loading) {
        this.answered = q;
        this.#landed();
      }
    }
  }

  /**
   * Does what takes away what is listed, such as removing a drawer, and asks for nothing from then on. Tells what that gave; if
   * nothing, it was not done, and the list goes on.
   */
  async farewell<T>(work: () => Promise<T | undefined>): Promise<T | undefined> {
    this.#resting = true;
    clearTimeout(this.#gathering);
    this.#loading?.abort();
    const done = await work();
    if (done !== undefined) return done;
    this.#resting = false;
    await this.load();
    return undefined;
  }

  /** Lists on, when the end comes into view. */
  async loadMore(): Promise<void> {
    if (!this.#next || this.#loading) return;
    const loading = new AbortController();
    this.#loading = loading;
    try {
      const page = await this.#source.fetch(this.query.trim(), this.#next, loading.signal);
      const known = new Set(this.clips.map((clip) => clip.id));
      this.shifting = false;
      for (const [id, note] of page.notes ?? []) this.#notes.set(id, note);
      this.clips = [...this.clips, ...page.clips.filter((clip) => !known.has(clip.id))];
      this.#next = page.next ?? undefined;
    } catch (error) {
      notices.wrong(error);
    } finally {
      if (this.#loading === loading) this.#landed();
    }
  }

  /** An answer has come: what was told meanwhile is put into it. */
  #landed(): void {
    this.#loading = undefined;
    const meanwhile = this.#meanwhile;
    this.#meanwhile = [];
    for (const change of meanwhile) this.#apply(change);
  }

  search(query: string): void {
    if (query === this.query) return;
    this.query = query;
    this.#sought = undefined;
    this.unseen = 0;
    this.chosen.clear();
    void this.load(0);
  }

  #soon(): void {
    clearTimeout(this.#gathering);
    this.#gathering = setTimeout(() => void this.load(), GATHER);
  }

  /** A clip has changed somewhere: brings the list up to date. */
  #apply(change: ClipChange): void {
    if (this.#loading) {
      this.#meanwhile.push(change);
      if (!this.loaded) return;
    }
    const { clip } = change;
    if (clip && this.detail?.id === clip.id) this.#refresh(clip);
    if (!this.#source.isHistory || this.query.trim()) {
      // Where it stands is for the service to say; once for many changes.
      if (this.#source.concerns?.(change, this) ?? true) this.#soon();
      return;
    }
    this.total = change.total;
    const at = this.clips.findIndex((known) => known.id === change.id);
    const without = this.clips.filter((known) => known.id !== change.id);
    if (clip && this.clips[at]?.copied_at === clip.copied_at) {
      // It was not copied again: it stays where it is, also among those of the same moment.
      without.splice(at, 0, clip);
      this.shifting = false;
    } else if (clip) {
      // Not compared as words: a moment is written without the zeros at its end, and “00.5Z” stands before “00Z”.
      const copied = Date.parse(clip.copied_at);
      const place = without.findIndex((known) => Date.parse(known.copied_at) <= copied);
      if (place === 0 && this.scrolled) this.unseen += 1;
      this.shifting = this.scrolled && place === 0;
      // Beyond what is listed it will come with the next page.
      if (place >= 0) without.splice(place, 0, clip);
      else if (!this.#next) without.push(clip);
    }
    this.#keepPlace(without);
    this.clips = without;
  }

  /** What is unfolded has changed: its attributes are known, its content is asked for if it may be another. */
  #refresh(clip: Clip): void {
    const detail = this.detail;
    if (!detail) return;
    if (clip.size === detail.size && clip.elsewhere === detail.elsewhere) this.detail = { ...detail, ...clip };
    else void this.#look(clip.id);
  }

  /** Entries go: what then stands in the place of the active one becomes active, and keeps the focus if it had it. */
  #keepPlace(left: Clip[]): void {
    const ids = new Set(left.map((clip) => clip.id));
    if (this.unfolded && !ids.has(this.unfolded)) this.fold();
    for (const id of this.chosen) if (!ids.has(id)) this.chosen.delete(id);
    if (!this.active || ids.has(this.active)) return;
    const place = this.clips.findIndex((clip) => clip.id === this.active);
    // One that has just been brought back is still to come.
    if (place < 0) return;
    const hadFocus = document.activeElement?.closest(`[aria-labelledby="line-${this.active}"]`) != null;
    this.active = (left[place] ?? left.at(-1))?.id;
    if (hadFocus) this.focusWanted += 1;
  }

  /** Moves from the active entry by so many, or to the first or the last; with `choose`, what lies between is chosen. */
  move(by: number | "first" | "last", choose = false): void {
    const at = this.clips.findIndex((clip) => clip.id === this.active);
    const wanted = by === "first" ? 0 : by === "last" ? this.clips.length - 1 : at < 0 ? 0 : at + by;
    const clip = this.clips[Math.max(0, Math.min(this.clips.length - 1, wanted))];
    if (!clip) return;
    const from = this.active;
    this.active = clip.id;
    this.focusWanted += 1;
    if (choose && from) this.chooseTo(clip.id, from);
    if (wanted >= this.clips.length - 20) void this.loadMore();
  }

  /** Chooses an entry, or no more. */
  choose(id: string): void {
    if (this.chosen.has(id)) this.chosen.delete(id);
    else this.chosen.add(id);
    this.#anchor = id;
  }

  /** Chooses all entries from where choosing began to this one. */
  chooseTo(id: string, from = this.active): void {
    const anchor = this.#anchor ?? from ?? id;
    this.#anchor = anchor;
    const [first, last] = [anchor, id]
      .map((one) => this.clips.findIndex((clip) => clip.id === one))
      .sort((a, b) => a - b);
    if (first === undefined || last === undefined || first < 0) return;
    this.chosen.clear();
    for (const clip of this.clips.slice(first, last + 1)) this.chosen.add(clip.id);
  }

  /** Selects all that are found, not only those that are listed so far, as many as one command takes. Tells whether there are more. */
  async chooseAll(): Promise<boolean> {
    while (this.#next && this.clips.length < AT_ONCE) await this.loadMore();
    for (const clip of this.clips.slice(0, AT_ONCE)) this.chosen.add(clip.id);
    return this.#next !== undefined || this.clips.length > AT_ONCE;
  }

  chooseNone(): void {
    this.chosen.clear();
    this.#anchor = undefined;
  }

  /** What a command is about: the entries that are chosen, in their order, or else the active one. */
  targets(): Clip[] {
    if (this.chosen.size > 0) return this.clips.filter((clip) => this.chosen.has(clip.id));
    const clip = this.activeClip();
    return clip ? [clip] : [];
  }

  activeClip(): Clip | undefined {
    return this.clips.find((clip) => clip.id === this.active);
  }

  async toggle(clip: Clip): Promise<void> {
    this.active = clip.id;
    if (this.unfolded === clip.id) this.fold();
    else await this.unfold(clip.id);
  }

  async unfold(id: string): Promise<void> {
    this.unfolded = id;
    this.detail = undefined;
    await this.#look(id);
  }

  async #look(id: string): Promise<void> {
    try {
      const detail = await api.show(id);
      if (this.unfolded === id) this.detail = detail;
    } catch (error) {
      notices.wrong(error);
    }
  }

  /**
   * Unfolds an entry that may lie further down than has been listed, and lists as far. Tells whether it is there; not if it lies
   * further down than is worth listing.
   */
  async reach(id: string): Promise<boolean> {
    const found = new Promise<boolean>((done) => (this.#sought = { id, done }));
    this.active = this.unfolded = id;
    this.detail = undefined;
    void this.load();
    const isThere = await found;
    if (isThere) await this.#look(id);
    else if (this.active === id) this.active = undefined;
    return isThere;
  }

  fold(): void {
    this.unfolded = undefined;
    this.detail = undefined;
  }

  /** Goes to an entry, which may still be to come. */
  goTo(id: string): void {
    this.active = id;
    this.focusWanted += 1;
  }
}

const KEY = Symbol("list");

/** Gives a list to the parts of a page. */
export const giveList = (list: ClipList): ClipList => setContext(KEY, list);

/** The list of the page that one is part of. */
export const getList = (): ClipList => getContext<ClipList>(KEY);
