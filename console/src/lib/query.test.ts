import { describe, expect, it } from "vitest";
import { parted, suggestions, tokens, without } from "./query";

const known = { apps: ["Writer", "Ledger Sheets"], drawers: ["Venues"], devices: [] };

describe("tokens", () => {
  it("keeps what is quoted in one piece, and knows filters and what is left out", () => {
    expect(tokens('lamp kind:image app:"Ledger Sheets" -draft "cue seven"')).toEqual([
      { text: "lamp", kind: "word" },
      { text: "kind:image", kind: "filter" },
      { text: 'app:"Ledger Sheets"', kind: "filter" },
      { text: "-draft", kind: "not" },
      { text: '"cue seven"', kind: "word" },
    ]);
  });

  it("takes what is no filter of ours for a word, as the service does", () => {
    expect(tokens("https://example.org 12:30 kind:").map((token) => token.kind)).toEqual(["word", "word", "word"]);
  });
});

it("a filter can be taken out again", () => {
  expect(without('lamp app:"Ledger Sheets" gel', 'app:"Ledger Sheets"')).toBe("lamp gel");
  expect(parted('-app:"Ledger Sheets"')).toEqual({ name: "app", value: "Ledger Sheets" });
});

describe("suggestions", () => {
  it("come from the beginning of a filter, or of its value", () => {
    expect(suggestions("lamp kind:i", known)).toEqual(["lamp kind:image"]);
    expect(suggestions("lamp wri", known)).toEqual(["lamp app:Writer"]);
  });

  it("quote what has spaces, and say nothing within quotes", () => {
    expect(suggestions("app:led", known)).toEqual(['app:"Ledger Sheets"']);
    expect(suggestions('"app:led', known)).toEqual([]);
  });

  it("are none for what is complete already", () => {
    expect(suggestions("kind:image", known)).toEqual([]);
    expect(suggestions("", known)).toEqual([]);
  });
});
