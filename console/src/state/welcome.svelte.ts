// Whether this browser has seen the first page.

const KEY = "yadori-welcomed";

export const welcome = {
  isNew: (): boolean => localStorage.getItem(KEY) === null,
  seen: (): void => localStorage.setItem(KEY, "yes"),
};
