// The shelf: one card's form open at a time; the chosen file is forgotten, so that it can be chosen again.
import { postForm, tell } from "./api.js";
import { listenToDrops } from "./drops.js";

document.addEventListener("toggle", (event) => {
  if (!event.target.open || !event.target.matches(".card-more")) return;
  document.querySelectorAll(".card-more[open]").forEach((other) => { if (other !== event.target) other.open = false; });
}, true);
document.addEventListener("htmx:afterRequest", (event) => {
  const file = event.target.querySelector?.("input[type=file]");
  if (file) file.value = "";
});

/** A bundle that is dropped is brought as if it had been chosen; a stack begins with a recording, or with notes. */
listenToDrops(() => document.querySelector("main"), (file) => {
  if (/\.midi?$/i.test(file.name)) return begin("midi", file);
  if (/\.(wav|aiff?|flac|og[ga]|mp3)$/i.test(file.name)) return begin("recording", file);
  const input = document.getElementById("import-file");
  const held = new DataTransfer();
  held.items.add(file);
  input.files = held.files;
  input.dispatchEvent(new Event("change", { bubbles: true }));
});

document.addEventListener("change", ({ target }) => {
  const [file] = (target.dataset?.begin && target.files) || [];
  if (file) begin(target.dataset.begin, file);
  if (target.dataset?.begin) target.value = "";
});

/** A stack that begins with a file; what was read in it is told on the bench. */
async function begin(kind, file) {
  const form = new FormData();
  form.append("file", file);
  tell(`Reading ‘${file.name}’ …`, { stays: true });
  try {
    const { url, told } = await (await postForm(`/begin/${kind}`, form)).json();
    sessionStorage.setItem("told", told);
    window.location.assign(url);
  } catch (error) {
    tell(error.message, { fault: true });
  }
}
