// What a person chose for this browser: theme and density.

export const THEMES = ["system", "paper", "night"] as const;
export type Theme = (typeof THEMES)[number];
export const DENSITIES = ["roomy", "dense"] as const;
export type Density = (typeof DENSITIES)[number];

const stored = <T extends string>(key: string, known: readonly T[]): T | undefined =>
  known.find((word) => word === localStorage.getItem(key));

class Preferences {
  theme = $state<Theme>("system");
  density = $state<Density>("roomy");

  /** Takes what was chosen before. */
  start(): void {
    this.choose(stored("yadori-theme", THEMES) ?? "system");
    this.density = stored("yadori-density", DENSITIES) ?? "roomy";
  }

  choose(theme: Theme): void {
    this.theme = theme;
    if (theme === "system") {
      localStorage.removeItem("yadori-theme");
      delete document.documentElement.dataset["theme"];
    } else {
      localStorage.setItem("yadori-theme", theme);
      document.documentElement.dataset["theme"] = theme;
    }
  }

  pack(density: Density): void {
    this.density = density;
    localStorage.setItem("yadori-density", density);
  }
}

export const preferences = new Preferences();
