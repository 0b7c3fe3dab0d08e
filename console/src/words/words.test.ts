import { readFileSync } from "node:fs";
import { expect, it } from "vitest";
import { en } from "./en";
import { ja } from "./ja";

/** The paths of all words, and what kind of thing each is. Records by a word of the contract are held against it below. */
function paths(words: object, at = ""): string[] {
  return Object.entries(words).flatMap(([name, value]) => {
    const path = `${at}.${name}`;
    if (path === ".problems.kinds" || path === ".problems.hints" || path === ".notices" || path === ".keys.actions")
      return [];
    return typeof value === "object" && value !== null ? paths(value, path) : [`${path}: ${typeof value}`];
  });
}

it("all languages say all", () => {
  expect(paths(ja)).toEqual(paths(en));
});

it("no word was left in English by mistake", () => {
  const plain = (words: object, at = ""): [string, string][] =>
    Object.entries(words).flatMap(([name, value]): [string, string][] =>
      typeof value === "string"
        ? [[`${at}.${name}`, value]]
        : typeof value === "object" && value !== null
          ? plain(value, `${at}.${name}`)
          : [],
    );
  const english = new Map(plain(en));
  const same = plain(ja).filter(([path, words]) => english.get(path) === words && / /.test(words));
  expect(same.filter(([path]) => !/^.help.(filters|moving).*0$/.test(path))).toEqual([]);
});

it("every kind of problem of the contract is worded in Japanese", () => {
  const contract = JSON.parse(readFileSync("../docs/openapi.json", "utf8")) as {
    components: { schemas: { ProblemKind: { enum: string[] } } };
  };
  const kinds = contract.components.schemas.ProblemKind.enum.map((kind) => kind.replace("urn:yadori:problem:", ""));
  expect(kinds.length).toBeGreaterThan(80);
  expect(kinds.filter((kind) => !ja.problems.kinds[kind])).toEqual([]);
  expect(Object.keys(ja.problems.kinds).filter((kind) => !kinds.includes(kind))).toEqual([]);
});

it("all that people are given to know is worded in Japanese", () => {
  const contract = JSON.parse(readFileSync("../docs/openapi.json", "utf8")) as {
    components: { schemas: Record<"NoticeKind" | "RefusalReason", { enum: string[] }> };
  };
  const { NoticeKind, RefusalReason } = contract.components.schemas;
  const kinds = NoticeKind.enum.filter((kind) => kind !== "other");
  expect(kinds.length).toBeGreaterThan(20);
  expect(Object.keys(ja.notices).sort()).toEqual(kinds.sort());
  for (const words of [ja, en]) expect(Object.keys(words.rules.refusals).sort()).toEqual(RefusalReason.enum.sort());
});

it("numbers agree with what is counted", () => {
  expect([en.clips.clips(1), en.clips.clips(1_200)]).toEqual(["1 clip", "1,200 clips"]);
  expect(en.done.recalled("“cue”", 1, false, 0)).toBe("“cue” is on the clipboard.");
  expect(en.done.recalled("3 clips", 3, true, 1)).toBe(
    "3 clips are on the clipboard as plain text. 1 clip could not be joined.",
  );
  expect(en.entry.missingFiles(1, 3)).toContain("1 of these files does not");
});
