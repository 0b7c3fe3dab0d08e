// What a person at this page can do about a problem. (The command line words its own.)
import type { Problem } from "./api";

export type ProblemKind = Problem["type"];

const hints: Partial<Record<ProblemKind, string>> = {
  "urn:yadori:problem:database-away": "Try again in a moment.",
  "urn:yadori:problem:disk-full": "Make room and try again; nothing is lost.",
  "urn:yadori:problem:elsewhere": "It is fetched as soon as that device is there.",
  "urn:yadori:problem:no-clipboard": "The service runs outside a desktop session; copy from this page instead.",
  "urn:yadori:problem:no-such-clip": "It has gone meanwhile.",
  "urn:yadori:problem:in-bin": "It has gone to the bin meanwhile.",
};

/** The hint for a kind of problem, if there is one. */
export const hint = (kind: ProblemKind): string | undefined => hints[kind];
