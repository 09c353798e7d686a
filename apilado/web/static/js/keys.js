// Keys of the whole bench. Keys of single handles are in handles.js, of fields in fields.js.

const SELECTIONS = { u: "sub", k: "kick", d: "duck", b: "bus", w: "space", t: "balance", p: "piece" };
const PANELS = { i: "pile", f: "profile", n: "passage", e: "strip" };
const PLACES = { y: "#layers .row-name", c: "#sheet .line-name, #sheet .field input, #sheet button", g: "#soundings button" };

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
    if (bench.path.typedAhead(event)) return; // the menu that it is meant for is still on its way
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
    } else if (key === "0") {
      bench.listening.toggleBacking();
    } else if (key === "t" && event.shiftKey) {
      bench.listening.togglePiece();
    } else if (key === "v") {
      bench.listening.walk(event.shiftKey ? -1 : 1);
    } else if (key === "h" || key === "j") {
      bench.listening.hearKept(key === "j");
    } else if (key === "z") {
      bench.now.toggle();
    } else if (key === "q") {
      bench.listening.setEqual(!bench.listening.equal);
    } else if (key === "escape") {
      bench.panels.show(null);
      if (bench.listening.compared.length) bench.listening.endComparison();
      document.querySelector(".panels").classList.remove("has-sheet");
      bench.views.filter((view) => view.open).forEach((view) => view.toggle());
    } else if (PANELS[key]) {
      act();
      bench.panels.enter(PANELS[key], bench.item);
    } else if (PLACES[key]) {
      act();
      const places = [...document.querySelectorAll(PLACES[key])];
      (places.find((place) => place.closest(".is-selected, .line.is-open")) ?? places[0])?.focus();
    } else if (key === "a") {
      act();
      bench.path.offer();
    } else if ((key === "," || key === ".") && event.target.closest?.("svg.drawing")) {
      act();
      bench.panels.beside(event.target.closest("svg.drawing").id, key === "." ? 1 : -1);
    } else if (SELECTIONS[key]) {
      bench.select(SELECTIONS[key]);
    } else if (/^[1-9]$/.test(key)) {
      const layers = [...document.querySelectorAll("#layers li[data-select^='layer:']")].reverse();
      const row = layers[Number(key) - 1];
      if (row) bench.select(row.dataset.select);
    } else if ((key === "m" || key === "s") && bench.selected.match(/^(layer:|trigger:|backing:|kick$|space$)/)) {
      const row = document.querySelector(`#layers li[data-select="${CSS.escape(bench.selected)}"]`);
      row?.querySelector(key === "m" ? '[data-toggle][data-path$="/mute"]' : "[data-alone]")?.click();
    }
  });
}
