// Parts of the page that are drawn anew: not under a hand that presses in them, and with what was open, chosen and scrolled.

import { prepareFields } from "./fields.js";

const press = { place: null, over: Promise.resolve(), end: () => {} };
const typing = { place: null, over: Promise.resolve(), end: () => {} };
const REDRAWN = "#sheet, #sheet-open, #soundings, #layers";
const TYPED = "input[type=number], input[type=text], input[type=search]";

/** A press that is under way reaches what it was aimed at before that is drawn anew. */
export function listenToPresses() {
  document.addEventListener("pointerdown", (event) => {
    press.end(); // the one before: what waits for it looks whether this one is in its way
    press.place = placeOf(event.target);
    press.over = new Promise((resolve) => { press.end = resolve; });
  }, true);
  const end = () => {
    const mine = press.end;
    setTimeout(() => { // the click comes right after, and where the page is busy the next press too
      if (press.end === mine) press.place = null;
      mine();
    });
  };
  for (const name of ["pointerup", "pointercancel"]) document.addEventListener(name, end, true);
  document.addEventListener("input", ({ target }) => {
    if (typing.place || !target.matches(TYPED)) return;
    typing.place = placeOf(target);
    typing.over = new Promise((resolve) => { typing.end = resolve; });
  }, true);
  const typed = () => {
    typing.place = null;
    typing.end();
  };
  for (const name of ["change", "focusout"]) document.addEventListener(name, typed, true);
}

const placeOf = (target) => target.closest(REDRAWN)?.id.replace("-open", "") ?? null;

/** Whether a part of the page waits for a hand before it is drawn anew. */
export const underHand = () => Boolean(press.place ?? typing.place);

/** Waits for the end of a press in one of some places, and for a number or a text that is being typed there. */
export async function handsOff(...places) {
  while (places.includes(press.place)) await press.over;
  if (places.includes(typing.place)) await typing.over;
}

/** New content, with folds, focus and scrolling as they were. */
export function replaceKeepingPlace(place, html) {
  const folds = new Map([...place.querySelectorAll("details[data-section]")].map((fold) => [fold.dataset.section, fold.open]));
  const focused = place.contains(document.activeElement) ? document.activeElement : null;
  const path = focused?.dataset.path;
  const type = focused?.type;
  const field = focused?.dataset.field;
  const scroll = place.parentElement.scrollTop;
  place.innerHTML = html;
  prepareFields(place);
  place.querySelectorAll("details[data-section]").forEach((fold) => {
    if (folds.has(fold.dataset.section)) fold.open = folds.get(fold.dataset.section);
  });
  if (path) {
    const same = [...place.querySelectorAll("[data-path]")].filter((control) => control.type === type);
    const byContent = (control) => control.dataset.path.includes("/@"); // a note or a hit, called by where it is: it has moved
    const moved = byContent(focused) ? same.find((control) => byContent(control) && control.dataset.field === field) : null;
    const again = same.find((control) => control.dataset.path === path) ?? moved;
    again?.focus({ preventScroll: true });
    if (again?.matches(TYPED)) again.select(); // nothing is typed yet: what is typed now replaces what stands there
  }
  place.parentElement.scrollTop = scroll;
}

/** Shows something in the dialog. */
export function openDialog(html) {
  document.getElementById("notices").replaceChildren(); // that a file was being read is over
  document.getElementById("dialog-body").innerHTML = html;
  document.getElementById("dialog").showModal();
}
