// The shelf: one card's form open at a time; the chosen file is forgotten, so that it can be chosen again.
import { listenToDrops } from "./drops.js";

document.addEventListener("toggle", (event) => {
  if (!event.target.open || !event.target.matches(".card-more")) return;
  document.querySelectorAll(".card-more[open]").forEach((other) => { if (other !== event.target) other.open = false; });
}, true);
document.addEventListener("htmx:afterRequest", (event) => {
  const file = event.target.querySelector?.("input[type=file]");
  if (file) file.value = "";
});

/** A bundle that is dropped is brought as if it had been chosen. */
listenToDrops(() => document.querySelector("main"), (file) => {
  const input = document.getElementById("import-file");
  const held = new DataTransfer();
  held.items.add(file);
  input.files = held.files;
  input.dispatchEvent(new Event("change", { bubbles: true }));
});
