// Held to be heard: while a button or its key is held, the loop plays with one part exaggerated, or with an edit as if
// it were made, or what one step adds. Nothing is edited.

import { tell } from "./api.js";

const HELD = "[data-overdo], [data-adds], [data-hear]";

export function listenToOverdo(bench) {
  let held = null;

  /** The sheet was drawn anew while the key was held: its button is another one now. */
  bench.redrawnWhileHeld = () => {
    if (!held || held.button.isConnected) return;
    const { overdo, adds, hear } = held.button.dataset;
    const same = ({ dataset }) => dataset.overdo === overdo && dataset.adds === adds && dataset.hear === hear;
    const button = [...document.querySelectorAll(HELD)].find(same);
    if (!button) return;
    held.button = button;
    button.setAttribute("aria-pressed", true);
  };

  async function begin(button) {
    if (held) return;
    held = { button };
    const mine = held;
    button.setAttribute("aria-pressed", true);
    try {
      if (!bench.player.playing) await bench.player.start();
      const { overdo, adds, hear } = button.dataset;
      const query = new URLSearchParams(overdo ? { overdo } : { adds }).toString();
      await bench.player.lend(!hear ? { query } : { url: `${bench.url}/preview`, data: { edit: JSON.parse(hear), client: bench.client, section: bench.sections.chosen, heard: bench.alone.heard } });
      if (held !== mine) bench.player.giveBack(); // it came too late
    } catch (error) {
      if (error.status !== 204) tell(error.message, { fault: true });
    }
  }

  function end() {
    if (!held) return;
    held.button.removeAttribute("aria-pressed");
    held = null;
    bench.player.giveBack();
  }

  document.addEventListener("pointerdown", (event) => {
    const button = event.target.closest(HELD);
    if (button && event.button === 0) begin(button);
  });
  for (const name of ["pointerup", "pointercancel", "blur"]) window.addEventListener(name, end);
  document.addEventListener("keydown", (event) => {
    const near = event.target.closest?.(HELD);
    const pressed = near && (event.key === " " || event.key === "Enter");
    const typing = event.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
    const key = event.key.toLowerCase() === "o" && !typing && !event.ctrlKey && !event.metaKey && !event.altKey;
    if (!pressed && !key) return;
    const button = near ?? document.querySelector("#sheet [data-overdo]");
    if (!button) return;
    event.preventDefault();
    event.stopPropagation();
    if (!event.repeat) begin(button);
  }, true);
  document.addEventListener("keyup", (event) => {
    if (held && [" ", "Enter", "o", "O"].includes(event.key)) end();
  }, true);
}
