// Keyed rendering: what has not changed keeps its elements, and what a hand is on is left alone until it is let go.

let held = null; // element under a pressed pointer
addEventListener('pointerdown', e => { held = e.target; }, true);
for (const end of ['pointerup', 'pointercancel']) addEventListener(end, () => { held = null; setTimeout(late); }, true);
addEventListener('focusout', () => setTimeout(late), true);

const waiting = new Map(); // boxes that were not brought fully up to date → their items

/** Whether a person is in the midst of something in an element: a drag, or typing. */
function busy(e) {
  const at = document.activeElement;
  return !!held && held.isConnected && e.contains(held) || e.contains(at) && (at.isContentEditable || at.matches('input[type=text], input[type=search], input[type=color]'));
}

/**
 * Brings the children of a box up to date, in order. An element is made anew when what it shows has changed; it stays when
 * not, and also, until it is let go, while a person drags or types in it.
 * @param {Element} box @param {{key: string, of: any, make: () => Element}[]} items of is all that the element shows
 */
export function keyed(box, items) {
  waiting.delete(box);
  const keys = new Set(items.map(i => i.key)), old = new Map();
  for (const e of [...box.children]) if (keys.has(e.keyedBy)) old.set(e.keyedBy, e); else e.remove();
  let at = box.firstElementChild;
  for (const item of items) {
    const text = JSON.stringify(item.of);
    let e = old.get(item.key);
    if (e && e.keyedOf !== text && busy(e)) waiting.set(box, items);
    else if (!e || e.keyedOf !== text) {
      const made = item.make(), focus = e?.contains(document.activeElement) && document.activeElement.dataset.key;
      made.keyedBy = item.key;
      made.keyedOf = text;
      e?.replaceWith(made);
      if (e && at === e) at = made;
      if (focus) made.querySelector(`[data-key="${focus}"]`)?.focus({ preventScroll: true });
      e = made;
    }
    if (e === at) at = at.nextElementSibling;
    else box.insertBefore(e, at);
  }
}

/** Brings up to date what had to wait. */
function late() {
  for (const [box, items] of [...waiting]) if (box.isConnected) keyed(box, items); else waiting.delete(box);
}
