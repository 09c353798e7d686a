// Keys of the whole bench. Keys of single handles are in handles.js, of fields in fields.js.

const SELECTIONS = { u: "sub", k: "kick", d: "duck", b: "bus", t: "balance", p: "piece" };

function typing(target) {
  return target.matches("input:not([type=range], [type=checkbox], [type=file]), select, textarea");
}

export function listenToKeys(bench) {
  document.addEventListener("keydown", (event) => {
    const key = event.key.toLowerCase();
    if (event.ctrlKey || event.metaKey) {
      if (key === "z" && !event.altKey && !typing(event.target)) {
        event.preventDefault();
        bench.step(event.shiftKey ? "redo" : "undo");
      }
      return;
    }
    if (event.altKey || typing(event.target) || document.querySelector("dialog[open]")) return;
    const act = () => event.preventDefault();
    if (key === " ") {
      // Space presses a focused button; on anything else it plays.
      if (event.target.matches("button:not(#play), summary, a, input[type=checkbox]")) return;
      act();
      bench.player.toggle();
    } else if (key === "home" && !event.target.matches("input")) {
      act();
      bench.seek(0);
    } else if (key === "?") {
      act();
      document.getElementById("help-dialog").showModal();
    } else if (key === "l") {
      bench.plumb.toggle();
    } else if (key === "r") {
      bench.room.toggle();
    } else if (key === "escape") {
      bench.panels.show(null);
      bench.views.filter((view) => view.open).forEach((view) => view.toggle());
    } else if (SELECTIONS[key]) {
      bench.select(SELECTIONS[key]);
    } else if (/^[1-9]$/.test(key)) {
      const layers = [...document.querySelectorAll("#layers li[data-select^='layer:']")].reverse();
      const row = layers[Number(key) - 1];
      if (row) bench.select(row.dataset.select);
    } else if ((key === "m" || key === "s") && bench.selected.match(/^(layer:|trigger:|kick$)/)) {
      const row = document.querySelector(`#layers li[data-select="${CSS.escape(bench.selected)}"]`);
      row?.querySelector(key === "m" ? '[data-toggle][data-path$="/mute"]' : "[data-alone]")?.click();
    }
  });
}
