// Numbers, sizes, days and times, as the chosen language writes them.
import { language } from "../words/index.svelte";

/** Formatters are costly to make, and few are needed. */
const made = new Map<string, Intl.DateTimeFormat | Intl.NumberFormat | Intl.RelativeTimeFormat | Intl.ListFormat>();

function once<T extends Intl.DateTimeFormat | Intl.NumberFormat | Intl.RelativeTimeFormat | Intl.ListFormat>(
  name: string,
  make: (locale: string) => T,
): T {
  const key = `${language.locale} ${name}`;
  const known = made.get(key) as T | undefined;
  if (known) return known;
  const formatter = make(language.locale);
  made.set(key, formatter);
  return formatter;
}

const date = (name: string, options: Intl.DateTimeFormatOptions) =>
  once(name, (locale) => new Intl.DateTimeFormat(locale, options));

/** A number. */
export const number = (value: number): string =>
  once("number", (locale) => new Intl.NumberFormat(locale)).format(value);

const UNITS = ["byte", "kilobyte", "megabyte", "gigabyte", "terabyte"] as const;

/** A number of bytes. */
export function size(bytes: number): string {
  let value = bytes;
  let unit = 0;
  while (value >= 999.95 && unit < UNITS.length - 1) {
    value /= 1000;
    unit += 1;
  }
  const options = {
    style: "unit",
    unit: UNITS[unit],
    unitDisplay: unit === 0 ? "long" : "short",
    maximumFractionDigits: unit === 0 ? 0 : 1,
  } as const;
  return once(`size ${unit}`, (locale) => new Intl.NumberFormat(locale, options)).format(value);
}

const SPANS = [
  ["day", 86_400],
  ["hour", 3_600],
  ["minute", 60],
  ["second", 1],
] as const;

/** A length of time, in the largest unit in which it is a whole number, or nearly. */
export function span(seconds: number): string {
  const [unit, length] =
    SPANS.find(([, length]) => seconds >= length && (seconds % length === 0 || seconds >= 10 * length)) ?? SPANS[3];
  const options = { style: "unit", unit, unitDisplay: "long", maximumFractionDigits: 0 } as const;
  return once(`span ${unit}`, (locale) => new Intl.NumberFormat(locale, options)).format(seconds / length);
}

/** How far away a moment is: “in 3 hours”, “2 days ago”. */
export function relative(at: Date, now = new Date()): string {
  const seconds = (at.getTime() - now.getTime()) / 1000;
  const [unit, length] = SPANS.find(([, length]) => Math.abs(seconds) >= length) ?? SPANS[3];
  return once("relative", (locale) => new Intl.RelativeTimeFormat(locale, { numeric: "auto" })).format(
    Math.round(seconds / length),
    unit,
  );
}

/** Words in a list: “a, b and c”. */
export const listed = (words: string[]): string =>
  once("listed", (locale) => new Intl.ListFormat(locale, { type: "conjunction" })).format(words);

/** A key that is the same for all moments of one day. */
export const dayKey = (at: Date): string => `${at.getFullYear()}-${at.getMonth()}-${at.getDate()}`;

/** The heading of a day. */
export function dayLabel(at: Date, now: Date): string {
  const days = Math.round((midnight(now) - midnight(at)) / 86_400_000);
  if (days === 0 || days === 1) {
    const word = once("relative", (locale) => new Intl.RelativeTimeFormat(locale, { numeric: "auto" })).format(
      -days,
      "day",
    );
    return word.charAt(0).toLocaleUpperCase(language.locale) + word.slice(1);
  }
  const year = at.getFullYear() === now.getFullYear() ? undefined : "numeric";
  return date(`day ${year}`, { weekday: "long", day: "numeric", month: "long", year }).format(at);
}

const midnight = (at: Date): number => new Date(at.getFullYear(), at.getMonth(), at.getDate()).getTime();

/** The time of day. */
export const clock = (at: Date): string =>
  date("clock", { hour: "2-digit", minute: "2-digit", hourCycle: "h23" }).format(at);

/** Day and month. */
export const shortDay = (at: Date): string => date("short", { day: "numeric", month: "short" }).format(at);

/** Everything, for reading in full. */
export const whole = (at: Date): string => date("whole", { dateStyle: "full", timeStyle: "medium" }).format(at);
