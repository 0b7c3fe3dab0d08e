// Days and times as a ledger writes them.

const DAY = new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long" });
const DAY_WITH_YEAR = new Intl.DateTimeFormat(undefined, { weekday: "long", day: "numeric", month: "long", year: "numeric" });
const CLOCK = new Intl.DateTimeFormat(undefined, { hour: "2-digit", minute: "2-digit", hourCycle: "h23" });
const SHORT = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const WHOLE = new Intl.DateTimeFormat(undefined, { dateStyle: "full", timeStyle: "medium" });

/** A key that is the same for all moments of one day. */
export function dayKey(at: Date): string {
  return `${at.getFullYear()}-${at.getMonth()}-${at.getDate()}`;
}

/** The heading of a day. */
export function dayLabel(at: Date, now: Date): string {
  if (dayKey(at) === dayKey(now)) return "Today";
  const yesterday = new Date(now.getFullYear(), now.getMonth(), now.getDate() - 1);
  if (dayKey(at) === dayKey(yesterday)) return "Yesterday";
  return (at.getFullYear() === now.getFullYear() ? DAY : DAY_WITH_YEAR).format(at);
}

/** The time of day. */
export const clock = (at: Date): string => CLOCK.format(at);

/** Day and month. */
export const shortDay = (at: Date): string => SHORT.format(at);

/** Everything, for reading in full. */
export const whole = (at: Date): string => WHOLE.format(at);
