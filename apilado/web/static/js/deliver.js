// The page that writes files: the sentence of choices, the drawing of what it means, progress in its bars.

import { get, post, postForm, tell } from "./api.js";
import { Newest } from "./newest.js";

const ASKED_MS = 200;
const TYPED_MS = 250;
const page = document.getElementById("deliver");
const form = document.getElementById("choices");
const instrument = document.getElementById("instrument");
const url = `/stacks/${page.dataset.stack}`;
const state = document.getElementById("deliver-state");
let job = 0;
let timer = null;

const plan = new Newest(async () => {
  const place = document.getElementById("plan");
  place.setAttribute("aria-busy", true);
  place.innerHTML = await (await get(`${url}/deliver/plan?${new URLSearchParams(new FormData(form))}`)).text();
  place.removeAttribute("aria-busy");
  const refused = place.querySelector(".is-fault") !== null;
  document.getElementById("write").disabled = refused || job > 0;
}, (error) => tell(error.message, { fault: true }));

const keys = new Newest(async () => {
  document.getElementById("keys").innerHTML = await (await get(`${url}/deliver/keys?${new URLSearchParams(new FormData(instrument))}`)).text();
}, (error) => tell(error.message, { fault: true }));

/** The words that follow from what is chosen. */
function said() {
  const chosen = [...form.querySelectorAll("[data-parts] input:checked")].map((box) => box.dataset.said);
  document.getElementById("parts-said").textContent = chosen.length > 1 ? `${chosen.slice(0, -1).join(", ")} and ${chosen.at(-1)}` : chosen[0] ?? "nothing";
  form.querySelectorAll("[data-when]").forEach((part) => { part.hidden = form.elements.level.value !== part.dataset.when; });
  document.querySelectorAll("input.word").forEach((field) => { field.size = Math.max(field.closest("#instrument") ? 2 : 4, field.value.length + 1); });
  // A select is as wide as what is chosen in it, so that the sentence reads as one.
  document.querySelectorAll("select.word").forEach((field) => {
    const measure = document.createElement("span");
    measure.className = "word measure";
    measure.textContent = field.selectedOptions[0]?.textContent ?? "";
    field.after(measure);
    field.style.width = `${measure.getBoundingClientRect().width + 22}px`;
    measure.remove();
  });
}

form.addEventListener("input", ({ target }) => {
  if (target.id === "preset") return;
  said();
  clearTimeout(timer);
  timer = setTimeout(() => plan.ask(), target.matches("input.word") ? TYPED_MS : 0);
});

document.addEventListener("click", (event) => {
  form.querySelectorAll("details[open]").forEach((menu) => { if (!menu.contains(event.target)) menu.open = false; });
});

// --- writing -------------------------------------------------------------------------------------------------------

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    await follow(await (await postForm(`${url}/deliver`, new FormData(form))).json());
  } catch (error) {
    tell(error.message, { fault: true });
  }
});

instrument.addEventListener("input", () => {
  said();
  clearTimeout(timer);
  timer = setTimeout(() => keys.ask(), TYPED_MS);
});

instrument.addEventListener("submit", async (event) => {
  event.preventDefault();
  try {
    await follow(await (await postForm(`${url}/instrument`, new FormData(instrument))).json(), { bars: false });
  } catch (error) {
    tell(error.message, { fault: true });
  }
});

document.getElementById("stop").addEventListener("click", () => post(`/jobs/${job}/stop`, {}));

function filled(share) {
  const files = [...document.querySelectorAll("#plan [data-file]")];
  files.forEach((file, index) => {
    const part = Math.min(1, Math.max(0, share * (files.length + 1) - index));
    const bar = file.querySelector(".file-done");
    bar.setAttribute("width", part * Number(bar.dataset.full));
  });
}

async function follow(begun, { bars = true } = {}) {
  let now = begun;
  const { id } = now;
  job = id;
  document.querySelectorAll("#write, #write-instrument").forEach((button) => { button.disabled = true; });
  document.getElementById("stop").hidden = false;
  await earlier();
  while (now.state === "running") {
    if (bars) filled(now.share);
    state.textContent = bars ? now.doing : `${now.doing} (${Math.round(100 * now.share)} %)`;
    await new Promise((resolve) => { setTimeout(resolve, ASKED_MS); });
    now = await (await get(`/jobs/${id}`)).json();
  }
  if (bars) filled(now.state === "done" ? 1 : 0);
  job = 0;
  document.getElementById("stop").hidden = true;
  document.querySelectorAll("#write, #write-instrument").forEach((button) => { button.disabled = false; });
  state.textContent = now.said;
  state.classList.toggle("is-fault", now.state !== "done");
  await earlier();
}

async function earlier() {
  document.getElementById("earlier").innerHTML = await (await get(`${url}/deliveries`)).text();
}

document.getElementById("earlier").addEventListener("click", async ({ target }) => {
  const { again, remove } = target.closest("button")?.dataset ?? {};
  try {
    if (again) await follow(await post(`/jobs/${again}/again`, {}));
    if (remove) {
      await post(`/jobs/${remove}/remove`, {});
      await earlier();
    }
  } catch (error) {
    tell(error.message, { fault: true });
  }
});

// --- presets -------------------------------------------------------------------------------------------------------

const presets = document.getElementById("preset");

presets.addEventListener("change", () => {
  document.getElementById("remove-preset").hidden = presets.value === "";
  if (!presets.value) return;
  for (const [name, value] of Object.entries(JSON.parse(presets.value))) {
    const field = form.elements[name];
    if (!field) continue;
    if (field.type === "checkbox") field.checked = value;
    else field.value = value;
  }
  said();
  plan.ask();
});

document.getElementById("keep-preset").addEventListener("click", async () => {
  const name = window.prompt("Keep these choices as", presets.selectedOptions[0]?.value ? presets.selectedOptions[0].textContent : "");
  if (!name) return;
  try {
    const kept = await post("/presets", { name, options: Object.fromEntries(new FormData(form)) });
    const there = [...presets.options].find((option) => option.textContent === kept.name) ?? presets.appendChild(new Option(kept.name));
    there.value = JSON.stringify(kept.options);
    presets.value = there.value;
    document.getElementById("remove-preset").hidden = false;
    tell(`Kept as ‘${kept.name}’.`);
  } catch (error) {
    tell(error.message, { fault: true });
  }
});

document.getElementById("remove-preset").addEventListener("click", async () => {
  const chosen = presets.selectedOptions[0];
  try {
    await post("/presets/remove", { name: chosen.textContent });
    chosen.remove();
    presets.value = "";
    document.getElementById("remove-preset").hidden = true;
  } catch (error) {
    tell(error.message, { fault: true });
  }
});

said();
await plan.ask();
const running = document.querySelector("[data-delivery] .delivery-said")?.textContent.includes("being written");
if (running && !job) follow(await (await get(`/jobs/${document.querySelector("[data-delivery]").dataset.delivery}`)).json());
document.documentElement.dataset.ready = "yes";
