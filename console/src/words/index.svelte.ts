// The console's own words, in the person's language.
import { en } from "./en";

export type Words = typeof en;
export type LanguageName = "en" | "ja";
export const LANGUAGES: Record<LanguageName, string> = { en: "English", ja: "日本語" };

const KEY = "yadori-language";

const isOurs = (name: string | null | undefined): name is LanguageName => name === "en" || name === "ja";

class Language {
  /** What the person chose; the browser's when nothing. */
  chosen = $state<LanguageName>();
  words = $state.raw<Words>(en);
  name = $state<LanguageName>("en");

  /** For dates and numbers: the browser's own wish, as long as it is the same language. */
  get locale(): string {
    return navigator.languages.find((tag) => tag.startsWith(this.name)) ?? this.name;
  }

  /** Takes the language that was chosen before, or the browser's. */
  async start(): Promise<void> {
    const stored = localStorage.getItem(KEY);
    this.chosen = isOurs(stored) ? stored : undefined;
    await this.#apply();
  }

  async choose(name: LanguageName | undefined): Promise<void> {
    this.chosen = name;
    if (name) localStorage.setItem(KEY, name);
    else localStorage.removeItem(KEY);
    await this.#apply();
  }

  async #apply(): Promise<void> {
    const wished = navigator.languages.map((tag) => tag.slice(0, 2)).find((tag) => isOurs(tag));
    const name = this.chosen ?? (isOurs(wished) ? wished : "en");
    this.words = name === "ja" ? (await import("./ja")).ja : en;
    this.name = name;
    document.documentElement.lang = name;
  }
}

export const language = new Language();

/** The words; read them where they are shown, so that they change with the language. */
export const w = (): Words => language.words;
