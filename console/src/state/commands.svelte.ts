// Everything that can be done, as functions of their own: the keys, the menus, the palette and the pages all call these.
import * as api from "../lib/api";
import type { Clip } from "../lib/api";
import { copyHere as copyInBrowser } from "../lib/clipboard";
import { number } from "../lib/format";
import { router } from "../lib/router.svelte";
import { named, namedAll } from "../lib/clips";
import type { ClipList } from "../list/list.svelte";
import { w } from "../words/index.svelte";
import { lock } from "./lock.svelte";
import { notices, run, type Action } from "./notices.svelte";
import { service } from "./service.svelte";

/** What asks a person for more than a key: a dialog that the frame of the page shows. */
export type Question =
  | { kind: "drawer"; clips: Clip[] }
  | { kind: "label"; clip: Clip }
  | { kind: "edit"; clip: Clip }
  | { kind: "reshape"; clip: Clip }
  | { kind: "send"; clips: Clip[] }
  | { kind: "qr"; clip: Clip }
  | { kind: "answers"; asks: string[]; usual: Record<string, string>; recall: api.Recall }
  | { kind: "pour"; clips?: Clip[]; drawer?: string }
  | { kind: "clear" }
  | { kind: "palette" };

class Frame {
  /** The list of the page that is shown, if it has one. */
  list = $state.raw<ClipList>();
  question = $state.raw<Question>();
  /** Raised to have the search focused. */
  searchWanted = $state(0);
}

export const frame = new Frame();

const ids = (clips: Clip[]): string[] => clips.map((clip) => clip.id);
const undoing = (step: number | null | undefined): Action => ({
  label: w().actions.undo,
  run: () => undo(step ?? undefined),
});

/** Takes back what was done last, or a step of it. */
export async function undo(step?: number): Promise<void> {
  const done = await run(
    () => api.undo(step),
    ({ clips, count }) => (clips.length === 1 && clips[0] ? w().done.back(named(clips[0])) : w().done.allBack(count)),
  );
  const first = done?.clips[0];
  if (first) frame.list?.goTo(first.id);
}

/** Puts clips on the clipboard of the service's computer: several are joined. */
export async function recall(clips: Clip[], how: Partial<api.Recall> = {}): Promise<boolean> {
  if (clips.length === 0) return false;
  const body: api.Recall = {
    clips: ids(clips),
    ...(clips.length > 1 ? { join: "\n", skip_others: true } : {}),
    ...how,
  };
  const done = await run(
    () => api.recall(body),
    (recalled) => w().done.recalled(namedAll(clips), clips.length, body.plain ?? false, recalled.left_out.length),
    (error) => {
      if (error.kind !== "urn:yadori:problem:asks" || !error.problem) return false;
      frame.question = {
        kind: "answers",
        asks: error.problem.asks ?? [],
        usual: error.problem.usual ?? {},
        recall: body,
      };
      return true;
    },
  );
  return done !== undefined;
}

/** Clears a slice of the history. */
export const clear = (what: api.Clear) =>
  run(
    () => api.clear(what),
    ({ count, step }) => ({ text: w().done.cleared(count), ...(step ? { action: undoing(step) } : {}) }),
  );

/** Copies a clip in this browser. */
export const copyHere = (clip: Clip) =>
  run(
    async () => copyInBrowser(frame.list?.detail?.id === clip.id ? frame.list.detail : await api.show(clip.id)),
    () => w().done.copiedHere(named(clip)),
  );

export const remove = (clips: Clip[]) =>
  run(
    () => api.remove(ids(clips)),
    ({ step }) => {
      frame.list?.chooseNone();
      return { text: w().done.deleted(namedAll(clips)), action: undoing(step) };
    },
  );

/** Pins clips; those that are pinned all are unpinned. */
export async function pin(clips: Clip[]): Promise<void> {
  if (clips.every((clip) => clip.pinned)) {
    await run(
      () => api.unpin(ids(clips)),
      () => ({
        text: w().done.unpinned(namedAll(clips)),
        action: { label: w().actions.undo, run: () => pin(clips.map((clip) => ({ ...clip, pinned: false }))) },
      }),
    );
  } else {
    await run(
      () => api.pin(ids(clips)),
      () => w().done.pinned(namedAll(clips)),
    );
  }
}

export const toTray = (clips: Clip[]) =>
  run(
    () => api.addToTray(ids(clips)),
    (tray) => {
      service.tray.take(tray);
      frame.list?.chooseNone();
      return w().done.inTray(namedAll(clips));
    },
  );

export const intoDrawer = (clips: Clip[], drawer: string) =>
  run(
    () => api.put(drawer, ids(clips)),
    () => {
      frame.list?.chooseNone();
      return w().done.inDrawer(namedAll(clips), drawer);
    },
  );

export const outOfDrawer = (clips: Clip[]) =>
  run(
    () => api.takeOut(ids(clips)),
    () => w().done.outOfDrawer(namedAll(clips)),
  );

export const send = (clips: Clip[], to: string) =>
  run(
    () => api.send(to, ids(clips)),
    () => w().done.sent(namedAll(clips), to),
  );

/** Keeps a text in the history. */
export const add = (content: string | Blob, type?: string) =>
  run(
    () => api.add(content, type),
    ({ clip, new: isNew }) => (isNew ? w().done.added(named(clip)) : w().done.known(named(clip))),
  );

/** Keeps files: pictures and texts as such. Says how many were, and what became of the others. */
export async function addFiles(files: File[]): Promise<void> {
  let kept = 0;
  const failed: string[] = [];
  for (const file of files) {
    const type = file.type.startsWith("image/")
      ? file.type
      : file.type === "text/html"
        ? "text/html"
        : isText(file)
          ? "text/plain"
          : undefined;
    try {
      if (!type) throw new Error("");
      await api.add(file, type);
      kept += 1;
    } catch {
      failed.push(file.name);
    }
  }
  if (failed.length > 0) notices.wrong(new Error(w().done.someNotAdded(kept, failed)));
  else notices.done(w().done.filesAdded(kept));
}

const isText = (file: File): boolean =>
  file.type.startsWith("text/") ||
  /json|xml|yaml|javascript/.test(file.type) ||
  (file.type === "" && /\.(txt|md|csv|log|ini|toml|rs|py)$/i.test(file.name));

// The tray

const traying = async (work: () => Promise<api.Tray>, say?: (tray: api.Tray) => string) => {
  const tray = await run(work, say);
  if (tray) service.tray.take(tray);
};

export const openTray = () => traying(api.openTray, () => w().done.trayOpen);
export const closeTray = (empty: boolean) =>
  traying(
    () => api.closeTray(empty),
    () => w().done.trayClosed,
  );
export const dealBack = () => traying(async () => (await api.dealBack()).tray);
export const restartTray = () => traying(api.restartTray);
export const arrangeTray = (place: number, at?: number) => traying(() => api.arrangeTray(place, at));

/** Puts the tray's next clip on the clipboard. */
export async function dealNext(): Promise<void> {
  const dealt = await run(
    () => api.dealNext(),
    ({ recalled }) => (recalled?.clips[0] ? w().done.dealt(named(recalled.clips[0])) : undefined),
  );
  if (dealt) service.tray.take(dealt.tray);
}

export const pour = (join: string, drawer?: string) =>
  run(
    () => api.pour({ join, skip_others: true, ...(drawer ? { drawer } : {}) }),
    ({ clips, left_out }) => w().done.poured(clips.length, left_out.length),
  );

/** Opens the link of a clip in a new tab; only what a browser may open. */
export async function openLink(clip: Clip): Promise<void> {
  const detail = await run(() => api.show(clip.id));
  const url = detail?.text ? safeUrl(detail.text.trim()) : undefined;
  if (url) open(url, "_blank", "noreferrer,noopener");
}

/** Only addresses that a browser may open; a clip may hold anything. */
export function safeUrl(text: string): string | undefined {
  return /^(https?|mailto|tel|ftp):/i.test(text) ? text : undefined;
}

// Keys call these with the entries that are meant.

export type Scope = "anywhere" | "list" | "entry" | "tray";
export type Command = {
  id: string;
  scope: Scope;
  /** The keys that it has if a person does not choose others; none if empty. */
  keys: string[];
  run: (clips: Clip[]) => unknown;
  /** Whether it can be done with these. */
  can?: (clips: Clip[]) => boolean;
};

const one = (clips: Clip[]): boolean => clips.length === 1;
const isText1 = (clips: Clip[]): boolean => one(clips) && (clips[0]?.kind === "text" || clips[0]?.kind === "link");
const first = (act: (clip: Clip) => unknown) => (clips: Clip[]) => clips[0] && act(clips[0]);
const page = (id: string, name: Parameters<typeof router.go>[0]["page"]): Command => ({
  id: `page.${id}`,
  scope: "anywhere",
  keys: [],
  run: () => router.go({ page: name ?? "ledger" }),
});

const ALL: Command[] = [
  { id: "search", scope: "anywhere", keys: ["/"], run: () => (frame.searchWanted += 1) },
  { id: "palette", scope: "anywhere", keys: ["Ctrl+."], run: () => (frame.question = { kind: "palette" }) },
  { id: "help", scope: "anywhere", keys: ["?"], run: () => router.go({ page: "help" }) },
  { id: "recall", scope: "entry", keys: ["r"], run: (clips) => recall(clips) },
  { id: "plain", scope: "entry", keys: ["t"], run: (clips) => recall(clips, { plain: true }) },
  { id: "copyHere", scope: "entry", keys: ["c"], run: first(copyHere), can: one },
  { id: "pin", scope: "entry", keys: ["p"], run: pin },
  { id: "drawer", scope: "entry", keys: ["d"], run: (clips) => (frame.question = { kind: "drawer", clips }) },
  { id: "toTray", scope: "entry", keys: ["y"], run: toTray },
  {
    id: "label",
    scope: "entry",
    keys: ["l"],
    run: first((clip) => (frame.question = { kind: "label", clip })),
    can: one,
  },
  {
    id: "edit",
    scope: "entry",
    keys: ["e"],
    run: first((clip) => (frame.question = { kind: "edit", clip })),
    can: isText1,
  },
  {
    id: "reshape",
    scope: "entry",
    keys: ["w"],
    run: first((clip) => (frame.question = { kind: "reshape", clip })),
    can: isText1,
  },
  {
    id: "open",
    scope: "entry",
    keys: ["o"],
    run: first(openLink),
    can: (clips) => one(clips) && clips[0]?.kind === "link",
  },
  {
    id: "qr",
    scope: "entry",
    keys: ["q"],
    run: first((clip) => (frame.question = { kind: "qr", clip })),
    can: isText1,
  },
  { id: "send", scope: "entry", keys: ["s"], run: (clips) => (frame.question = { kind: "send", clips }) },
  { id: "delete", scope: "entry", keys: ["Delete"], run: remove },
  { id: "choose", scope: "entry", keys: ["x"], run: () => frame.list?.active && frame.list.choose(frame.list.active) },
  { id: "chooseAll", scope: "list", keys: ["a"], run: chooseAll },
  { id: "undo", scope: "list", keys: ["u"], run: () => notices.current?.action?.run() ?? undo() },
  { id: "next", scope: "tray", keys: ["n"], run: dealNext },
  { id: "pour", scope: "tray", keys: [], run: () => (frame.question = { kind: "pour" }) },
  { id: "trayOpen", scope: "anywhere", keys: [], run: openTray },
  { id: "clear", scope: "anywhere", keys: [], run: () => (frame.question = { kind: "clear" }) },
  {
    id: "pause",
    scope: "anywhere",
    keys: [],
    run: () => (service.capture?.state === "on" ? service.pause() : service.resume()),
  },
  { id: "lock", scope: "anywhere", keys: ["L"], run: () => lock.now() },
  page("ledger", "ledger"),
  page("kept", "kept"),
  page("add", "add"),
  page("devices", "devices"),
  page("rules", "rules"),
  page("bin", "bin"),
  page("figures", "figures"),
  page("settings", "settings"),
];

/** What a browser may do that came in by the door for a phone: it reads, copies there, and adds. */
const FOR_GUESTS = new Set([
  ...["search", "palette", "help", "copyHere", "open", "qr", "choose", "chooseAll"],
  ...["page.ledger", "page.kept", "page.add", "page.settings"],
]);

async function chooseAll(): Promise<void> {
  const list = frame.list;
  if (!list) return;
  await run(
    () => list.chooseAll(),
    (more) => (more ? w().done.choseFirst(number(list.chosen.size)) : undefined),
  );
}

/** All commands that there are here. Their names are in the words, by id. */
export const COMMANDS: Command[] = api.isGuest ? ALL.filter((command) => FOR_GUESTS.has(command.id)) : ALL;

/** What is done with a clip that is picked: it is put on the clipboard that one has before oneself. */
export const take = (clip: Clip): Promise<unknown> => (api.isGuest ? copyHere(clip) : recall([clip]));
