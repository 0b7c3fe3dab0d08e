// Putting things in order: by dragging, and equally by keyboard (Alt with an arrow up or down, while the thing has the focus).

type Order = {
  /** How many there are. */
  count: () => number;
  /** Moves what is at one place to another, both from 1. */
  move: (from: number, to: number) => unknown;
};

/** An action for each thing of an order; its parameter is the thing's place, from 1. */
export function moving(
  order: Order,
): (node: HTMLElement, place: number) => { update: (place: number) => void; destroy: () => void } {
  let dragged: number | undefined;
  return (node, first) => {
    let place = first;
    node.draggable = true;
    node.dataset["place"] = String(place);

    const to = (wanted: number) => {
      if (wanted < 1 || wanted > order.count() || wanted === place) return;
      // The focus goes along: it is taken again when the thing is at its new place.
      const parent = node.parentElement;
      const had = node.contains(document.activeElement);
      void Promise.resolve(order.move(place, wanted)).then(() => {
        if (!had) return;
        requestAnimationFrame(() =>
          parent?.querySelector<HTMLElement>(`[data-place="${wanted}"] button, [data-place="${wanted}"] a`)?.focus(),
        );
      });
    };
    const on = {
      dragstart: (event: DragEvent) => {
        dragged = place;
        event.dataTransfer?.setData("application/x-yadori-place", String(place));
        if (event.dataTransfer) event.dataTransfer.effectAllowed = "move";
      },
      dragover: (event: DragEvent) => {
        if (dragged !== undefined) event.preventDefault();
      },
      drop: (event: DragEvent) => {
        if (dragged === undefined) return;
        event.preventDefault();
        event.stopPropagation();
        const from = dragged;
        dragged = undefined;
        if (from !== place && place <= order.count()) order.move(from, place);
      },
      dragend: () => {
        dragged = undefined;
      },
      keydown: (event: KeyboardEvent) => {
        if (!event.altKey || event.ctrlKey || event.metaKey) return;
        const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
        if (by === undefined) return;
        event.preventDefault();
        event.stopPropagation();
        to(place + by);
      },
    };
    const entries = Object.entries(on) as [keyof HTMLElementEventMap, EventListener][];
    for (const [name, listener] of entries) node.addEventListener(name, listener);
    return {
      update: (now) => {
        place = now;
        node.dataset["place"] = String(now);
      },
      destroy: () => {
        for (const [name, listener] of entries) node.removeEventListener(name, listener);
      },
    };
  };
}
