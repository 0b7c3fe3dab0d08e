// The only module that asks the service for something (but for the event stream, in stream.ts).
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Clip = Schemas["Clip"];
export type ClipDetail = Schemas["ClipDetail"];
export type ClipPage = Schemas["ClipPage"];
export type ClipChange = Schemas["ClipChange"];
export type Status = Schemas["Status"];
export type Problem = Schemas["Problem"];
export type ProblemKind = Problem["type"];
export type Part = Schemas["Part"];
export type Drawer = Schemas["Drawer"];
export type Relay = Schemas["Relay"];
export type Mailbox = Schemas["Mailbox"];
export type DrawerContents = Schemas["DrawerContents"];
export type Tray = Schemas["Tray"];
export type Sync = Schemas["Sync"];
export type Device = Schemas["Device"];
export type Notice = Schemas["Notice"];
export type Invitation = Schemas["Invitation"];
export type Policy = Schemas["Policy"];
export type PolicyChange = Schemas["PolicyChange"];
export type Rules = Schemas["Rules"];
export type RulesChange = Schemas["RulesChange"];
export type SweepPreview = Schemas["SweepPreview"];
export type RulesVerdict = Schemas["RulesVerdict"];
export type Keys = Schemas["Keys"];
export type Bin = Schemas["Bin"];
export type Stats = Schemas["Stats"];
export type Door = Schemas["ConsoleDoor"];
export type Session = Schemas["ConsoleSession"];
export type Colour = Schemas["Colour"];
export type Kind = Schemas["Kind"];
export type Attributes = Schemas["Attributes"];
export type Recall = Schemas["Recall"];
export type Way = Schemas["Way"];
export type Clear = Schemas["Clear"];
export type Lock = Schemas["Lock"];
export type LockChange = Schemas["LockChange"];
export type Protector = Schemas["Protector"];

/** The service said no, or could not be reached. `problem` is what it said. */
export class Refused extends Error {
  constructor(
    readonly kind: ProblemKind | "away" | "shut-out" | "content" | "unknown",
    message: string,
    readonly problem?: Problem,
  ) {
    super(message);
  }
}

/** The path of this browser's session, under which everything lies. */
export const place = /^\/s\/[^/]+/.exec(location.pathname)?.[0] ?? "";

/** Whether this browser came in by the door for a phone, where one may read, search and add. */
export const isGuest = location.protocol === "https:";

const client = createClient<paths>({ baseUrl: location.origin + place });

/** What the client gives: by the contract, an answer, or a problem. */
type Settled<T> =
  { data: T; error?: undefined; response: Response } | { data?: undefined; error: Problem; response: Response };

/** What is in the way may answer in the service's place, so it is looked at. */
function isProblem(error: unknown): error is Problem {
  return typeof error === "object" && error !== null && "type" in error && "detail" in error;
}

/** The answer's data, or an error that can be shown. */
async function ask<T>(answer: Promise<Settled<T>>): Promise<T> {
  let settled;
  try {
    settled = await answer;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Refused("away", "The service cannot be reached.");
  }
  if (settled.error === undefined) return settled.data;
  throw refusal(settled.response, settled.error);
}

/** Called when the service says that the history is locked. */
export const hooks = { locked: (): void => {} };

function refusal(response: Response, error: unknown): Refused {
  if (response.status === 401) return new Refused("shut-out", "This browser is not let in any more.");
  if (response.status === 423) hooks.locked();
  if (isProblem(error)) return new Refused(error.type, error.detail, error);
  return new Refused("unknown", `The service answered ${response.status}.`);
}

export const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
const named = (name: string) => ({ params: { path: { name } } });
const inDrawer = (drawer: string) => ({ params: { path: { drawer } } });

// Clips

export const list = (q: string, cursor: string | undefined, signal?: AbortSignal, limit = 100): Promise<ClipPage> =>
  ask(client.GET("/api/v1/clips", { params: { query: { q: q || undefined, cursor, limit, zone } }, signal }));
export const show = (id: string): Promise<ClipDetail> => ask(client.GET("/api/v1/clips/{name}", named(id)));
export const recall = (body: Recall) => ask(client.POST("/api/v1/recall", { body }));
export const remove = (clips: string[]) => ask(client.POST("/api/v1/delete", { body: { clips } }));
export const undo = (step?: number) => ask(client.POST("/api/v1/undo", { body: { step } }));
export const change = (id: string, body: Attributes): Promise<Clip> =>
  ask(client.PATCH("/api/v1/clips/{name}", { ...named(id), body }));
export const edit = (id: string, text: string) =>
  ask(
    client.PUT("/api/v1/clips/{name}/text", {
      ...named(id),
      body: text,
      bodySerializer: (body: string) => body,
      headers: { "content-type": "text/plain" },
    }),
  );
export const ways = () => ask(client.GET("/api/v1/ways"));
export const reshape = (clip: string, list: string[], save: boolean) =>
  ask(client.POST("/api/v1/reshape", { body: { clip, ways: list, save } }));
export const clear = (what: Clear) => ask(client.POST("/api/v1/clear", { body: what }));

/** Makes a clip of some text, or of the bytes of a file of this type. */
export async function add(content: string | Blob, type = "text/plain"): Promise<Schemas["Added"]> {
  // The contract knows text; bytes go the same way.
  return ask(
    client.POST("/api/v1/clips", { body: "", bodySerializer: () => content, headers: { "content-type": type } }),
  );
}

// What is kept

export const pins = async () => (await ask(client.GET("/api/v1/pins"))).clips;
export const pin = (clips: string[], at?: number) => ask(client.POST("/api/v1/pins", { body: { clips, at } }));
export const unpin = (clips: string[]) => ask(client.POST("/api/v1/pins/remove", { body: { clips } }));
export const drawers = () => ask(client.GET("/api/v1/drawers"));
export const drawer = (name: string, signal: AbortSignal): Promise<DrawerContents> =>
  ask(client.GET("/api/v1/drawers/{drawer}", { ...inDrawer(name), signal }));
export const newDrawer = (name: string) => ask(client.POST("/api/v1/drawers", { body: { name } }));
export const changeDrawer = (name: string, body: Schemas["DrawerChange"]) =>
  ask(client.PATCH("/api/v1/drawers/{drawer}", { ...inDrawer(name), body }));
export const removeDrawer = (name: string) => ask(client.DELETE("/api/v1/drawers/{drawer}", inDrawer(name)));
/** Removes a private drawer with all that lies in it. */
export const eraseDrawer = (name: string) =>
  ask(client.DELETE("/api/v1/drawers/{drawer}", { params: { path: { drawer: name }, query: { for_good: true } } }));
export const openDrawer = (name: string, passphrase: string, minutes: number) =>
  ask(client.POST("/api/v1/drawers/{drawer}/open", { ...inDrawer(name), body: { passphrase, minutes } }));
export const closeDrawer = (name: string) => ask(client.POST("/api/v1/drawers/{drawer}/close", inDrawer(name)));
export const setDrawerPassphrase = (name: string, passphrase: string) =>
  ask(client.PUT("/api/v1/drawers/{drawer}/passphrase", { ...inDrawer(name), body: { passphrase } }));
export const removeDrawerPassphrase = (name: string) =>
  ask(client.DELETE("/api/v1/drawers/{drawer}/passphrase", inDrawer(name)));
export const put = (name: string, clips: string[], at?: number) =>
  ask(client.POST("/api/v1/drawers/{drawer}/put", { ...inDrawer(name), body: { clips, at } }));
export const takeOut = (clips: string[]) => ask(client.POST("/api/v1/drawers-take", { body: { clips } }));
export const moveInDrawer = (name: string, place: number, at: number) =>
  ask(client.POST("/api/v1/drawers/{drawer}/move", { ...inDrawer(name), body: { place, at } }));
export const sortDrawer = (name: string, by: Schemas["SortBy"]) =>
  ask(client.POST("/api/v1/drawers/{drawer}/sort", { ...inDrawer(name), body: { by } }));
export const heading = (name: string, body: Schemas["NewHeading"]) =>
  ask(client.POST("/api/v1/drawers/{drawer}/headings", { ...inDrawer(name), body }));

// The tray

export const tray = (): Promise<Tray> => ask(client.GET("/api/v1/tray"));
export const openTray = () => ask(client.POST("/api/v1/tray/open", { body: {} }));
export const closeTray = (empty: boolean) => ask(client.POST("/api/v1/tray/close", { body: { empty } }));
export const addToTray = (clips: string[]) => ask(client.POST("/api/v1/tray/add", { body: { clips } }));
export const dealNext = (auto = false) => ask(client.POST("/api/v1/tray/next", { body: { auto } }));
export const dealBack = () => ask(client.POST("/api/v1/tray/back"));
export const restartTray = () => ask(client.POST("/api/v1/tray/restart"));
export const arrangeTray = (place: number, at?: number) =>
  ask(client.POST("/api/v1/tray/arrange", { body: { place, at } }));
export const pour = (body: Schemas["Pour"]) => ask(client.POST("/api/v1/tray/pour", { body }));

// Devices

export const sync = (): Promise<Sync> => ask(client.GET("/api/v1/sync"));
export const invite = (via?: "relay"): Promise<Invitation> =>
  ask(client.POST("/api/v1/sync/invitation", { body: { via } }));
export const join = (address: string, code: string) =>
  ask(client.POST("/api/v1/sync/join", { body: { address, code } }));
export const renameDevice = (name: string, to: string) =>
  ask(client.PATCH("/api/v1/devices/{name}", { ...named(name), body: { name: to } }));
export const removeDevice = (name: string) => ask(client.DELETE("/api/v1/devices/{name}", named(name)));
export const pauseSync = () => ask(client.POST("/api/v1/sync/pause", { body: {} }));
export const resumeSync = () => ask(client.POST("/api/v1/sync/resume"));
/** How it stands with the relay, of which there is one; it is asked itself. */
export const relay = () => ask(client.GET("/api/v1/sync/relay"));
export const setRelay = (invitation: string) => ask(client.PUT("/api/v1/sync/relay", { body: { invitation } }));
export const leaveRelay = () => ask(client.DELETE("/api/v1/sync/relay"));
export const syncNow = () => ask(client.POST("/api/v1/sync/now"));
export const leave = () => ask(client.POST("/api/v1/sync/leave"));
export const policy = (): Promise<Policy> => ask(client.GET("/api/v1/sync/policy"));
export const changePolicy = (body: PolicyChange) => ask(client.PATCH("/api/v1/sync/policy", { body }));
export const send = (to: string, clips: string[]) => ask(client.POST("/api/v1/send", { body: { to, clips } }));

// Rules, the bin, figures

export const rules = (): Promise<Rules> => ask(client.GET("/api/v1/rules"));
export const changeRules = (body: RulesChange) => ask(client.PATCH("/api/v1/rules", { body }));
export const previewRules = (body: RulesChange): Promise<SweepPreview> =>
  ask(client.POST("/api/v1/rules/preview", { body }));
export const resetRules = (confirmed: boolean) => ask(client.POST("/api/v1/rules/reset", { body: { confirmed } }));
export const testRules = (text: string, application?: string): Promise<RulesVerdict> =>
  ask(client.POST("/api/v1/rules/test", { body: { text, application } }));
/** Most that are given of the bin at once. */
const BINNED = 200;
export const bin = (skip: number): Promise<Bin> =>
  ask(client.GET("/api/v1/bin", { params: { query: { skip, limit: BINNED } } }));
export const restore = (clips: string[]) => ask(client.POST("/api/v1/bin/restore", { body: { clips } }));
export const emptyBin = () => ask(client.POST("/api/v1/bin/empty"));
export const stats = (): Promise<Stats> => ask(client.GET("/api/v1/stats"));

// The service

export const status = (): Promise<Status> => ask(client.GET("/api/v1/status"));
export const pause = (seconds?: number): Promise<Status> => ask(client.POST("/api/v1/pause", { body: { seconds } }));
export const startAtLogIn = (starts: boolean): Promise<Status> =>
  ask(client.PUT("/api/v1/log-in", { body: { starts } }));
export const resume = (): Promise<Status> => ask(client.POST("/api/v1/resume"));
export const keys = (): Promise<Keys> => ask(client.GET("/api/v1/keys"));
export const setKeys = (action: string, keys: string | undefined) =>
  ask(client.PUT("/api/v1/keys/actions/{action}", { params: { path: { action } }, body: { keys } }));
export const sessions = (): Promise<Session[]> => ask(client.GET("/api/v1/console-sessions"));
export const shutOut = (id: string) =>
  ask(client.DELETE("/api/v1/console-sessions/{id}", { params: { path: { id } } }));
export const door = (): Promise<Door> => ask(client.GET("/api/v1/console-door"));
export const openDoor = (seconds: number): Promise<Door> =>
  ask(client.POST("/api/v1/console-door", { body: { seconds } }));
export const closeDoor = (): Promise<Door> => ask(client.DELETE("/api/v1/console-door"));

/** Takes in an archive, as `exportUrl` gives one. */
export async function importArchive(file: Blob): Promise<Schemas["ImportReport"]> {
  let response;
  try {
    const headers = { "content-type": "application/zip" };
    response = await fetch(`${place}/api/v1/import`, { method: "POST", body: file, headers });
  } catch {
    throw new Refused("away", "The service cannot be reached.");
  }
  if (!response.ok) throw refusal(response, await response.json().catch(() => undefined));
  // A line for each step; the last one has the report, or says why there is none.
  const lines = (await response.text()).trim().split("\n");
  const last: Schemas["ImportProgress"] = JSON.parse(lines.at(-1) ?? "{}");
  if (!last.report) throw new Refused("unknown", last.error ?? "The archive could not be read to its end.");
  return last.report;
}

// Addresses

const clipUrl = (id: string, what: string): string => `${place}/api/v1/clips/${encodeURIComponent(id)}/${what}`;
/** Where the bytes of a format are. */
export const contentUrl = (id: string, format: string): string =>
  clipUrl(id, `content?format=${encodeURIComponent(format)}`);
/** Where the small picture of a picture is. */
export const thumbnailUrl = (id: string): string => clipUrl(id, "thumbnail");
/** Where the QR code of a clip is. */
export const qrUrl = (id: string): string => clipUrl(id, "qr");
const exported = (what: Record<string, string>): string =>
  `${place}/api/v1/export?${new URLSearchParams({ form: "zip", ...what }).toString()}`;
/** Where an archive of these clips is. */
export const exportOf = (ids: string[]): string => exported({ clips: ids.join(",") });
/** Where an archive of all clips, or of those that meet a query, is. */
export const exportUrl = (q: string): string => exported(q ? { q } : {});

/** The bytes of a format. */
export async function content(id: string, format: string): Promise<Blob> {
  let response;
  try {
    response = await fetch(contentUrl(id, format));
  } catch {
    throw new Refused("away", "The service cannot be reached.");
  }
  if (!response.ok) throw refusal(response, await response.json().catch(() => undefined));
  return response.blob();
}

// The lock

export const rekey = () => ask(client.POST("/api/v1/lock/rekey"));
export const showLock = (): Promise<Lock> => ask(client.GET("/api/v1/lock"));
export const lockNow = (): Promise<Lock> => ask(client.POST("/api/v1/lock"));
export const unlock = (passphrase: string): Promise<Lock> =>
  ask(client.POST("/api/v1/lock/open", { body: { passphrase } }));
export const changeLock = (body: LockChange): Promise<Lock> => ask(client.PATCH("/api/v1/lock", { body }));
export const setPassphrase = (passphrase: string, current?: string): Promise<Lock> =>
  ask(client.PUT("/api/v1/lock/passphrase", { body: { passphrase, current } }));
export const newRecoveryKey = (current?: string) => ask(client.POST("/api/v1/lock/recovery", { body: { current } }));
export const addProtector = (kind: Protector, current?: string): Promise<Lock> =>
  ask(client.POST("/api/v1/lock/protectors/{kind}", { params: { path: { kind } }, body: { current } }));
export const removeProtector = (kind: Protector, current?: string): Promise<Lock> =>
  ask(client.POST("/api/v1/lock/protectors/{kind}/remove", { params: { path: { kind } }, body: { current } }));
