// A query as a person sees it: words, and filters that can be taken out again. The service alone says what it finds.

export type Token = { text: string; kind: "word" | "filter" | "not" };

const FILTERS = ["kind", "app", "device", "drawer", "is", "before", "after", "larger"] as const;
export type FilterName = (typeof FILTERS)[number];

/** A query in pieces: quoted pieces stay whole. */
export function tokens(q: string): Token[] {
  return (q.match(/-?(?:\w+:)?"[^"]*"?|\S+/g) ?? []).map((text) => {
    if (/^-./.test(text)) return { text, kind: "not" };
    const name = /^(\w+):./.exec(text)?.[1];
    return { text, kind: FILTERS.some((known) => known === name) ? "filter" : "word" };
  });
}

/** The name and the value of a filter. */
export function parted(text: string): { name: FilterName | undefined; value: string } {
  const [, name = "", value = ""] = /^-?(\w+):(.*)$/.exec(text) ?? [];
  return { name: FILTERS.find((known) => known === name), value: value.replaceAll('"', "") };
}

/** The query without one of its pieces. */
export const without = (q: string, text: string): string =>
  tokens(q)
    .filter((token) => token.text !== text)
    .map((token) => token.text)
    .join(" ");

const quoted = (value: string): string => (/\s/.test(value) ? `"${value}"` : value);

/** What may be meant by what is being typed: whole queries, by their last piece. */
export function suggestions(q: string, known: { apps: string[]; drawers: string[]; devices: string[] }): string[] {
  const [, before = "", last = ""] = /^(.*?)(\S*)$/s.exec(q) ?? [];
  if (last.length < 1 || last.includes('"')) return [];
  const values: Partial<Record<FilterName, string[]>> = {
    kind: ["text", "link", "image", "files"],
    is: ["pinned", "kept", "sensitive"],
    after: ["today", "yesterday", "3d", "2w"],
    before: ["today", "yesterday", "1w"],
    larger: ["20kB", "2MB"],
    app: known.apps,
    drawer: known.drawers,
    device: known.devices,
  };
  const all = FILTERS.flatMap((name) => (values[name] ?? []).map((value) => `${name}:${quoted(value)}`));
  const typed = last.toLocaleLowerCase();
  const plain = (filter: string) => filter.replaceAll('"', "").toLocaleLowerCase();
  const fits = (filter: string) =>
    plain(filter).startsWith(typed) ||
    (typed.length > 1 && !typed.includes(":") && plain(filter).split(":")[1]?.startsWith(typed));
  return all
    .filter((filter) => fits(filter) && plain(filter) !== typed)
    .slice(0, 6)
    .map((filter) => before + filter);
}
