// Where one is, in the part of the address after the hash: page, what of it, query, and the entry that is unfolded.

export const PAGES = [
  "ledger",
  "kept",
  "add",
  "devices",
  "rules",
  "bin",
  "figures",
  "settings",
  "help",
  "clip",
  "welcome",
] as const;
export type PageName = (typeof PAGES)[number];

export type Route = {
  page: PageName;
  /** What of the page: a drawer's name, a clip's id. */
  what: string;
  /** What is searched for. */
  q: string;
  /** The clip that is unfolded. */
  clip: string;
};

/** What an address says. Anything that is not an address of ours is the ledger. */
export function parse(hash: string): Route {
  const [path = "", search = ""] = hash.replace(/^#?\/?/, "").split("?", 2);
  const [name = "", ...rest] = path.split("/");
  const page = PAGES.find((known) => known === name) ?? "ledger";
  const asked = new URLSearchParams(search);
  return { page, what: decoded(rest.join("/")), q: asked.get("q") ?? "", clip: asked.get("clip") ?? "" };
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

/** The address of a route. */
export function href(route: Partial<Route>): string {
  const { page = "ledger", what = "", q = "", clip = "" } = route;
  const asked = new URLSearchParams({ ...(q ? { q } : {}), ...(clip ? { clip } : {}) }).toString();
  return `#/${page === "ledger" ? "" : page}${what ? `/${encodeURIComponent(what)}` : ""}${asked ? `?${asked}` : ""}`;
}

class Router {
  route = $state.raw<Route>(parse(location.hash));

  constructor() {
    addEventListener("popstate", () => {
      this.route = parse(location.hash);
    });
  }

  /** Goes somewhere; back leads to where one was. */
  go(route: Partial<Route>): void {
    this.#to(route, false);
  }

  /** Says where one is by now; back leads to before. */
  replace(route: Partial<Route>): void {
    this.#to(route, true);
  }

  #to(route: Partial<Route>, replace: boolean): void {
    const to = href(route);
    if (to === href(this.route)) return;
    if (replace) history.replaceState(null, "", to);
    else history.pushState(null, "", to);
    this.route = parse(to);
  }
}

export const router = new Router();
