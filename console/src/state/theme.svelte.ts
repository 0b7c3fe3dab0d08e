// Paper or night: as the system has it, or as the person chose in this browser.

export type Theme = "system" | "paper" | "night";

const KEY = "yadori-theme";

class ThemeChoice {
  chosen = $state<Theme>("system");

  constructor() {
    const stored = localStorage.getItem(KEY);
    if (stored === "paper" || stored === "night") this.choose(stored);
  }

  choose(theme: Theme): void {
    this.chosen = theme;
    if (theme === "system") {
      localStorage.removeItem(KEY);
      delete document.documentElement.dataset["theme"];
    } else {
      localStorage.setItem(KEY, theme);
      document.documentElement.dataset["theme"] = theme;
    }
  }

  /** Goes on to the next: system, paper, night, and round again. */
  next(): void {
    this.choose(this.chosen === "system" ? "paper" : this.chosen === "paper" ? "night" : "system");
  }
}

export const theme = new ThemeChoice();
