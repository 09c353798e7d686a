// What the buttons of the bench do, and whatever else is pressed in it.

import { zoom } from "./zoom.js";

export function listenToButtons(bench) {
  document.addEventListener("click", (event) => {
    const near = (selector) => event.target.closest(selector);
    const pressed = near("[data-edit], [data-alone], [data-listen], [data-pull], [data-show], [data-close], [data-mode], [data-zoom], [data-select], #play, #undo, #redo, #help, #sheet-call, #plumb-open, #room-open, #quarry-open, #mend-all, #tap, #now-open, [data-view-close], [data-goal], [data-most], [data-limit], [data-look], [data-go-to], [data-piece], [data-hear-cast]");
    if (event.target.closest("#files a, #files button")) document.getElementById("files").open = false;
    if (!pressed || pressed.closest("svg.drawing") || (near("input, label") && !pressed.matches("button"))) return;
    if (event.detail > 0) pressed.blur(); // a pointer's press leaves Space to the transport
    if (pressed.dataset.asks && !window.confirm(pressed.dataset.asks)) return;
    if (pressed.dataset.edit) {
      // What was tried on the whole piece is done to it, also where a section is chosen.
      const whole = Boolean(pressed.closest("#soundings, #dialog, .plumb-view"));
      bench.edit(() => ({ ...JSON.parse(pressed.dataset.edit), whole }));
      if ("close" in pressed.dataset) pressed.closest("dialog").close();
    } else if (pressed.dataset.alone) bench.listening.toggle(pressed.dataset.alone);
    else if ("piece" in pressed.dataset) bench.listening.togglePiece();
    else if (pressed.dataset.goTo) bench.listening.goTo(pressed.dataset.goTo);
    else if (pressed.dataset.hearCast) bench.listening.hearCast(Number(pressed.dataset.hearCast));
    else if (pressed.dataset.listen) bench.listening.togglePoint(pressed.dataset.listen);
    else if (pressed.dataset.show) bench.panels.show(JSON.parse(pressed.dataset.show));
    else if ("close" in pressed.dataset) pressed.closest("dialog").close();
    else if (pressed.dataset.pull) bench.pull(pressed.dataset.pull);
    else if (pressed.dataset.mode) bench.setMode(pressed.dataset.mode, { chosen: true });
    else if (pressed.dataset.zoom) zoom(bench, pressed.dataset.zoom);
    else if (pressed.dataset.select) bench.select(pressed.dataset.select);
    else if (pressed.id === "now-open") bench.now.toggle();
    else if (pressed.id === "tap") bench.tapping.toggle();
    else if (pressed.id === "mend-all") bench.remedies.mendAll();
    else if (pressed.id === "plumb-open") bench.plumb.toggle();
    else if (pressed.id === "room-open") bench.room.toggle();
    else if (pressed.id === "quarry-open") bench.quarry.toggle();
    else if ("viewClose" in pressed.dataset) bench.views.filter((view) => view.open).forEach((view) => view.toggle());
    else if (pressed.dataset.goal) bench.plumb.ask({ goal: pressed.dataset.goal });
    else if (pressed.dataset.most) bench.room.ask({ most: pressed.dataset.most });
    else if (pressed.dataset.limit) setLimit(bench, pressed);
    else if (pressed.dataset.look) bench.files.find(pressed.dataset.look, pressed.dataset.within);
    else if (pressed.id === "play") bench.player.toggle();
    else if (pressed.id === "sheet-call") document.querySelector(".panels").classList.toggle("has-sheet");
    else if (pressed.id === "help") document.getElementById("help-dialog").showModal();
    else bench.step(pressed.id);
  });
}

/** The limits of a sounding, from the fields beside the button; `clear` takes them back to the rule's own. */
function setLimit(bench, button) {
  const fields = button.closest(".limit-form");
  const number = (name) => (fields.querySelector(`[name=${name}]`).value === "" ? null : Number(fields.querySelector(`[name=${name}]`).value));
  const edit = { op: "limit", sounding: button.dataset.limit };
  if (!("clear" in button.dataset)) Object.assign(edit, { look: number("look"), fault: number("fault"), reason: fields.querySelector("[name=reason]").value });
  bench.edit(() => edit);
}
