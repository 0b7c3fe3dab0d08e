import { expect, it } from "vitest";
import { clip } from "../testing";
import { line, named, parts } from "./clips";

it("marks count characters, not the units of UTF-16", () => {
  expect(parts("🦉 owl", [{ start: 2, end: 5 }])).toEqual([
    { text: "🦉 ", marked: false },
    { text: "owl", marked: true },
  ]);
});

it("what is sensitive is not in any line", () => {
  const secret = clip({ preview: "owl-by-lantern", sensitive: "password" });
  expect(line(secret)).toBe("hidden: looks like a password");
  expect(named(secret)).not.toContain("owl");
});

it("a title cannot turn round the sentence that it stands in, nor make it endless", () => {
  expect(named(clip({ title: "a\u202Eb\u200Bc" }))).toBe("“abc”");
  expect(named(clip({ title: "x".repeat(500) })).length).toBeLessThan(70);
});
