// What is being typed into the history, so that neither another page nor a service that is away loses it.

const KEY = "yadori-draft";

class Draft {
  #text = $state(sessionStorage.getItem(KEY) ?? "");

  get text(): string {
    return this.#text;
  }

  set text(text: string) {
    this.#text = text;
    try {
      sessionStorage.setItem(KEY, text);
    } catch {
      // More than a browser keeps: it is still here as long as the page is.
    }
  }
}

export const draft = new Draft();
