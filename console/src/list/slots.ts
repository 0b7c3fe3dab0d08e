// What a search finds takes the place of what was found before: entries that are no longer listed lend their elements to those
// that are new, which is much quicker than to make them anew with every letter.

export class Slots {
  #slots = new Map<string, number>();
  #made = 0;

  /**
   * Gives each of these keys a slot, in their order: the one it had, or one that nobody of them has any more, or a new one. The slot
   * of `kept` is lent to nobody: it has the focus.
   */
  take(keys: string[], kept?: string): Map<string, number> {
    const present = new Set(keys);
    const free: number[] = [];
    for (const [key, slot] of this.#slots) if (!present.has(key) && key !== kept) free.push(slot);
    let lent = 0;
    const slots = new Map<string, number>();
    for (const key of keys) slots.set(key, this.#slots.get(key) ?? free[lent++] ?? this.#made++);
    return (this.#slots = slots);
  }
}
