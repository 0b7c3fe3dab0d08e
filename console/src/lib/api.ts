// The only module that asks the service for something (but for the event stream, in stream.ts).
import createClient from "openapi-fetch";
import { type ProblemKind, hint } from "./hints";
import type { components, paths } from "./schema";

export type Clip = components["schemas"]["Clip"];
export type ClipDetail = components["schemas"]["ClipDetail"];
export type ClipPage = components["schemas"]["ClipPage"];
export type ClipChange = components["schemas"]["ClipChange"];
export type Status = components["schemas"]["Status"];
export type Problem = components["schemas"]["Problem"];

/** The service said no, or could not be reached. */
export class Refused extends Error {
  constructor(
    readonly kind: ProblemKind | "away" | "unauthorised" | "content" | "unknown",
    message: string,
    readonly hint?: string,
  ) {
    super(message);
  }
}

/** The path of this browser's session, under which everything lies. */
export const place = /^\/s\/[^/]+/.exec(location.pathname)?.[0] ?? "";

const client = createClient<paths>({ baseUrl: location.origin + place });

/** The answer's data, or an error that can be shown. */
async function ask<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let settled;
  try {
    settled = await answer;
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    throw new Refused("away", "The service cannot be reached.", "Is it running? On its computer: yadorid");
  }
  if (settled.response.ok) return settled.data as T;
  const problem = settled.error as Partial<Problem> | undefined;
  if (settled.response.status === 401) {
    throw new Refused("unauthorised", "This browser is not let in any more.", "Open a new link with: yadori console");
  }
  const detail = problem?.detail ?? `The service answered ${settled.response.status}.`;
  throw new Refused(problem?.type ?? "unknown", detail, problem?.type && hint(problem.type));
}

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

export const list = (q: string, cursor: string | undefined, signal: AbortSignal): Promise<ClipPage> =>
  ask(client.GET("/api/v1/clips", { params: { query: { q: q || undefined, cursor, limit: 100, zone } }, signal }));

export const show = (id: string): Promise<ClipDetail> => ask(client.GET("/api/v1/clips/{name}", { params: { path: { name: id } } }));

export const recall = (id: string, plain: boolean) => ask(client.POST("/api/v1/recall", { body: { clips: [id], plain } }));

export const remove = (id: string) => ask(client.POST("/api/v1/delete", { body: { clips: [id] } }));

export const undo = (step: number | undefined) => ask(client.POST("/api/v1/undo", { body: { step } }));

export const status = (): Promise<Status> => ask(client.GET("/api/v1/status"));

export const pause = (seconds: number | undefined): Promise<Status> => ask(client.POST("/api/v1/pause", { body: { seconds } }));

export const resume = (): Promise<Status> => ask(client.POST("/api/v1/resume"));

/** Makes a clip of some text. */
export async function add(text: string): Promise<void> {
  const response = fetch(`${place}/api/v1/clips`, { method: "POST", headers: { "content-type": "text/plain" }, body: text });
  await ask(response.then(async (response) => ({ response, error: response.ok ? undefined : await response.json() })));
}

/** Where the bytes of a format are. */
export const contentUrl = (id: string, format: string): string =>
  `${place}/api/v1/clips/${encodeURIComponent(id)}/content?format=${encodeURIComponent(format)}`;

/** Where the small picture of a picture is. */
export const thumbnailUrl = (id: string): string => `${place}/api/v1/clips/${encodeURIComponent(id)}/thumbnail`;

/** The bytes of a format. */
export async function content(id: string, format: string): Promise<Blob> {
  const response = await fetch(contentUrl(id, format));
  if (!response.ok) throw new Refused("content", "The content cannot be had.");
  return response.blob();
}
