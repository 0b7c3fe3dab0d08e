import { describe, expect, it } from "vitest";
import { href, parse, router } from "./router.svelte";

describe("addresses", () => {
  it("say page, query and selection, and are read again as what they say", () => {
    const route = { page: "ledger", what: "", q: 'app:"Ledger Sheets" 照明 &=#', clip: "abc2" } as const;
    expect(parse(href(route))).toEqual(route);
    const drawer = { page: "kept", what: "Venues / old?", q: "", clip: "" } as const;
    expect(parse(href(drawer))).toEqual(drawer);
  });

  it("that are not ours lead to the history", () => {
    for (const hash of ["", "#", "#/", "#/nowhere/at/all", "#main"]) expect(parse(hash).page).toBe("ledger");
    expect(parse("#/kept/%E0%A4%A").what).toBe("%E0%A4%A");
  });
});

it("going somewhere is a step back in the browser's history, saying where one is by now is not", () => {
  const before = history.length;
  router.go({ page: "kept" });
  expect(history.length).toBe(before + 1);
  router.replace({ page: "kept", what: "Venues" });
  router.go({ page: "kept", what: "Venues" });
  expect(history.length).toBe(before + 1);
  expect(router.route.what).toBe("Venues");
});
