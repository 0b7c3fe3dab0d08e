import { describe, expect, it, vi } from "vitest";
import type * as Api from "../lib/api";
import { pass } from "../state/live";
import { clip, clipsOf } from "../testing";
import { ClipList, type Listing } from "./list.svelte";

vi.mock("../lib/api", async (whole) => ({
  ...(await whole<typeof Api>()),
  show: async (id: string) => ({ ...clip({ id }), formats: [] }),
}));

/** A history of so many clips, in pages of ten. */
function history(count: number) {
  const all = clipsOf(count);
  const fetch = vi.fn(async (q: string, cursor: string | undefined): Promise<Listing> => {
    const found = all.filter((one) => one.preview.includes(q));
    const from = Number(cursor ?? 0);
    return {
      clips: found.slice(from, from + 10),
      total: count,
      next: from + 10 < found.length ? String(from + 10) : undefined,
    };
  });
  return { all, fetch, list: new ClipList({ fetch, isHistory: true }) };
}

describe("loading", () => {
  it("goes on where it stopped, and stops at the end", async () => {
    const { list, fetch } = history(25);
    await list.load();
    expect(list.clips.length).toBe(10);
    await list.loadMore();
    await list.loadMore();
    await list.loadMore();
    expect(list.clips.length).toBe(25);
    expect(fetch).toHaveBeenCalledTimes(3);
    expect(list.more).toBe(false);
  });

  it("again lists as much as before, so that nobody's place is lost", async () => {
    const { list } = history(35);
    await list.load();
    await list.loadMore();
    await list.loadMore();
    await list.load();
    expect(list.clips.length).toBe(30);
  });

  it("goes as far as the entry that an address names, also when it is asked again meanwhile", async () => {
    const { list, fetch } = history(95);
    const reached = list.reach("clip-42");
    await list.load();
    expect(await reached).toBe(true);
    expect([list.active, list.unfolded, list.clips.length]).toEqual(["clip-42", "clip-42", 50]);
    fetch.mockClear();
    expect(await list.reach("clip-7")).toBe(true);
    expect(fetch).toHaveBeenCalledTimes(5);
  });

  it("does not go without end for an entry that is not there", async () => {
    const { list, fetch } = history(5_000);
    expect(await list.reach("nowhere")).toBe(false);
    expect([list.active, list.unfolded, fetch.mock.calls.length]).toEqual([undefined, undefined, 200]);
  });

  it("asks for nothing while what it lists is being removed, and goes on if it was not", async () => {
    const aborted = vi.fn();
    const fetch = vi.fn(async (_: string, __: string | undefined, signal: AbortSignal): Promise<Listing> => {
      signal.addEventListener("abort", aborted);
      return { clips: [], total: 0 };
    });
    const list = new ClipList({ fetch });
    void list.load();
    const removed = await list.farewell(async () => {
      await list.load();
      return "removed";
    });
    expect([removed, fetch.mock.calls.length, aborted.mock.calls.length]).toEqual(["removed", 1, 1]);
    await list.load();
    expect(fetch).toHaveBeenCalledTimes(1);
    const kept = new ClipList({ fetch });
    expect(await kept.farewell(async () => undefined)).toBeUndefined();
    await kept.load();
    expect(fetch).toHaveBeenCalledTimes(3);
  });

  it("a slow answer does not show after a quick one that was asked later", async () => {
    const answers = new Map<string, (listing: Listing) => void>();
    const list = new ClipList({
      fetch: (q, _, signal) =>
        new Promise((resolve, reject) => {
          answers.set(q, resolve);
          signal.addEventListener("abort", () => reject(new DOMException("", "AbortError")));
        }),
      isHistory: true,
    });
    list.search("slow");
    list.search("quick");
    answers.get("quick")?.({ clips: [clip({ id: "quick" })], total: 1 });
    answers.get("slow")?.({ clips: [clip({ id: "slow" })], total: 1 });
    await vi.waitFor(() => expect(list.clips[0]?.id).toBe("quick"));
  });
});

describe("changes", () => {
  const changed = (id: string, some?: Parameters<typeof clip>[0]) =>
    pass({ kind: "clip", change: { id, change: 1, total: 99, clip: some ? clip({ id, ...some }) : null } });

  it("are put where they belong without asking", async () => {
    const { list, fetch } = history(5);
    const end = list.watch();
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    changed("new", { copied_at: "2026-11-27T12:30:00Z" });
    changed("clip-3");
    expect(list.clips.map((one) => one.id)).toEqual(["new", "clip-0", "clip-1", "clip-2", "clip-4"]);
    expect([list.total, fetch.mock.calls.length]).toEqual([99, 1]);
    end();
    changed("after the end", { copied_at: "2026-11-27T12:31:00Z" });
    expect(list.clips[0]?.id).toBe("new");
  });

  it("are ordered by their moments, however many digits these are written with", async () => {
    const written = [
      "2026-11-27T12:00:00Z",
      "2026-11-27T12:00:00.1Z",
      "2026-11-27T12:00:00.12Z",
      "2026-11-27T12:00:00.123Z",
    ];
    const list = new ClipList({ fetch: async () => ({ clips: [], total: 0 }), isHistory: true });
    const end = list.watch();
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    for (const at of written) changed(at, { copied_at: at });
    expect(list.clips.map((one) => one.id)).toEqual(written.toReversed());
    end();
  });

  it("that are told while an older answer is under way are not lost with it", async () => {
    const all = clipsOf(3);
    let answer: ((listing: Listing) => void) | undefined;
    const list = new ClipList({ fetch: () => new Promise((resolve) => (answer = resolve)), isHistory: true });
    const end = list.watch();
    answer?.({ clips: all, total: 3 });
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    pass({ kind: "reload" });
    changed("new", { copied_at: "2026-11-27T12:30:00Z" });
    changed("clip-1");
    answer?.({ clips: all, total: 3 });
    await vi.waitFor(() => expect(list.clips.map((one) => one.id)).toEqual(["new", "clip-0", "clip-2"]));
    expect(list.total).toBe(99);
    end();
  });

  it("leave an entry where it is that was not copied again, also among those of the same moment", async () => {
    const at = "2026-11-27T12:00:00Z";
    const same = ["a", "b", "c"].map((id) => clip({ id, copied_at: at }));
    const list = new ClipList({ fetch: async () => ({ clips: same, total: 3 }), isHistory: true });
    const end = list.watch();
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    changed("b", { copied_at: at, recalls: 1 });
    changed("c", { copied_at: at, recalls: 1 });
    expect(list.clips.map((one) => [one.id, one.recalls])).toEqual([
      ["a", 0],
      ["b", 1],
      ["c", 1],
    ]);
    end();
  });

  it("above what is being read are counted, and do not move it", async () => {
    const { list } = history(30);
    const end = list.watch();
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    list.scrolled = true;
    changed("new", { copied_at: "2026-11-27T12:30:00Z" });
    changed("clip-7", { copied_at: "2026-11-27T11:53:00Z", pinned: true });
    expect([list.unseen, list.shifting]).toEqual([1, false]);
    end();
  });

  it("that take the active entry leave one standing at its place", async () => {
    const { list } = history(5);
    const end = list.watch();
    await vi.waitFor(() => expect(list.loaded).toBe(true));
    list.active = "clip-1";
    list.unfolded = "clip-1";
    list.chosen.add("clip-1");
    changed("clip-1");
    expect([list.active, list.unfolded, list.chosen.size]).toEqual(["clip-2", undefined, 0]);
    end();
  });
});

describe("choosing", () => {
  it("extends from where it began, either way", async () => {
    const { list } = history(9);
    await list.load();
    list.active = "clip-4";
    list.move(1, true);
    list.move(1, true);
    expect([...list.chosen]).toEqual(["clip-4", "clip-5", "clip-6"]);
    list.move(-4, true);
    expect([...list.chosen]).toEqual(["clip-2", "clip-3", "clip-4"]);
    expect(list.targets().map((one) => one.id)).toEqual(["clip-2", "clip-3", "clip-4"]);
  });

  it("all means all that are found, not only what is listed", async () => {
    const { list } = history(25);
    await list.load();
    expect(await list.chooseAll()).toBe(false);
    expect(list.chosen.size).toBe(25);
    list.search("text 1");
    expect(list.chosen.size).toBe(0);
  });

  it("all are as many as one command takes", async () => {
    const { list } = history(1_205);
    await list.load();
    expect(await list.chooseAll()).toBe(true);
    expect(list.chosen.size).toBe(1_000);
    expect(list.targets().length).toBe(1_000);
  });

  it("nothing, commands are about the active entry", async () => {
    const { list } = history(3);
    await list.load();
    expect(list.targets()).toEqual([]);
    list.active = "clip-2";
    expect(list.targets().map((one) => one.id)).toEqual(["clip-2"]);
  });
});

it("entries stand under their days, but what is found does not", async () => {
  const { list } = history(3);
  await list.load();
  expect(list.rows.map((row) => row.kind)).toEqual(["day", "entry", "entry", "entry"]);
  list.search("text");
  await vi.waitFor(() => expect(list.rows.length).toBe(3));
});
