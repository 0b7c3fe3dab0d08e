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

/** What the client gives: by the contract, an answer, or a problem. */
type Settled<T> = { data: T; error?: undefined; response: Response } | { data?: undefined; error: Problem; response: Response };

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
    throw new Refused("away", "The service cannot be reached.", "Is it running? On its computer: yadorid");
  }
  if (settled.error === undefined) return settled.data;
  const { error, response } = settled;
  if (response.status === 401) {
    throw new Refused("unauthorised", "This browser is not let in any more.", "Open a new link with: yadori console");
  }
  if (!isProblem(error)) throw new Refused("unknown", `The service answered ${response.status}.`);
  throw new Refused(error.type, error.detail, hint(error.type));
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
export const add = (text: string) =>
  ask(client.POST("/api/v1/clips", { body: text, bodySerializer: (body) => body, headers: { "content-type": "text/plain" } }));

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
