// Problems in the person's language. The service says what kind of problem it is, with parameters; its own wording is English.
import { language, w } from "../words/index.svelte";
import { Refused } from "./api";

export function wording(error: unknown): { text: string; hint?: string | undefined } {
  if (!(error instanceof Refused)) return { text: error instanceof Error ? error.message : String(error) };
  const { away, shutOut, noContent, kinds, hints } = w().problems;
  if (error.kind === "away") return { text: away.text, hint: away.hint };
  if (error.kind === "shut-out") return { text: shutOut.text, hint: shutOut.hint };
  if (error.kind === "content" || !error.problem) return { text: error.kind === "content" ? noContent : error.message };
  const word = error.problem.type.replace("urn:yadori:problem:", "");
  const parameters = error.problem.parameters ?? {};
  const told = kinds[word]?.replace(/\{(\w+)\}/g, (_, name: string) => parameters[name] ?? "…");
  // Where the language is the service's own, its sentence says more than a word for all of its kind.
  const text = language.name === "en" || !told ? whole(error.problem.detail) : told;
  return { text, hint: hints[word] };
}

/** What the service says, as a sentence: it words the part of one, for the command line. */
function whole(detail: string): string {
  const words = detail.charAt(0).toUpperCase() + detail.slice(1);
  return /[.!?…:]$/.test(words) ? words : `${words}.`;
}

/** The same in one run of words. */
export function sentence(error: unknown): string {
  const { text, hint } = wording(error);
  return hint ? `${text} ${hint}` : text;
}
