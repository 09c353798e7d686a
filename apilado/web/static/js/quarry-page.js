// The page of the Quarry: sounds are heard as they are, turned down to one loudness; files and folders are brought.

import { postForm, tell } from "./api.js";
import { QuarryList } from "./quarry.js";

const AUDIO = /\.(wav|aiff?|flac|og[ga]|mp3)$/i;
const place = document.getElementById("quarry");
const heard = new Audio();
let playing = 0;

const list = new QuarryList(place, { hears: hear });

function hear(number, volume) {
  if (playing === number) return stop();
  playing = number;
  heard.src = `/quarry/${number}/sound`;
  heard.volume = volume;
  heard.play().then(show, (error) => {
    stop();
    tell(`It cannot be played: ${error.message}`, { fault: true });
  });
}

function stop() {
  heard.pause();
  playing = 0;
  show();
}

function show() {
  place.dataset.playing = playing;
  place.querySelectorAll("[data-listen-to]").forEach((button) => button.setAttribute("aria-pressed", Number(button.dataset.listenTo) === playing));
}

heard.addEventListener("ended", stop);
list.mark();
list.waitForMeasured();

// --- bringing files ------------------------------------------------------------------------------------------------

/** Brings files one after the other, tells how far it is, and at the end what was refused and why. */
async function bring(files) {
  const [refused, before] = [[], { brought: 0, there: 0 }];
  const placed = (file) => file.webkitRelativePath || file.name;
  const wanted = files.filter((file) => AUDIO.test(file.name)).sort((a, b) => placed(a).localeCompare(placed(b), undefined, { numeric: true }));
  files.filter((file) => !AUDIO.test(file.name)).forEach((file) => refused.push([file.name, "no kind of audio that is read here"]));
  for (const [index, file] of wanted.entries()) {
    tell(`Bringing ${index + 1} of ${wanted.length}: ${file.name}`, { stays: true });
    const form = new FormData();
    form.append("file", file);
    try {
      const { new: isNew } = await (await postForm("/quarry/import", form)).json();
      before[isNew ? "brought" : "there"] += 1;
    } catch (error) {
      refused.push([file.name, error.message]);
    }
  }
  await list.refresh();
  report(before, refused);
}

function report({ brought, there }, refused) {
  const said = [`${brought} brought`, ...(there ? [`${there} were there already`] : []), ...(refused.length ? [`${refused.length} refused`] : [])];
  tell(`${said.join(", ")}.`, { stays: refused.length > 0, fault: refused.length > 0 });
  if (!refused.length) return;
  const listed = document.createElement("ul");
  listed.className = "refused";
  for (const [name, why] of refused.slice(0, 40)) {
    const line = document.createElement("li");
    line.textContent = why.includes(name) ? why : `${name}: ${why}`;
    listed.append(line);
  }
  document.querySelector("#notices .notice")?.append(listed);
}

document.addEventListener("change", ({ target }) => {
  if (!("bring" in (target.dataset ?? {})) || !target.files.length) return;
  bring([...target.files]);
  target.value = "";
});

/** Every file of what was dropped, those in folders too. */
async function filesIn(entry) {
  if (entry.isFile) return [await new Promise((resolve, reject) => { entry.file(resolve, reject); })];
  const reader = entry.createReader();
  const found = [];
  for (let part = [null]; part.length;) {
    part = await new Promise((resolve, reject) => { reader.readEntries(resolve, reject); });
    for (const each of part) found.push(...await filesIn(each));
  }
  return found;
}

document.addEventListener("dragover", (event) => event.preventDefault());
document.addEventListener("drop", async (event) => {
  event.preventDefault();
  const entries = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry?.()).filter(Boolean);
  const found = (await Promise.all(entries.map(filesIn))).flat();
  if (found.length) bring(found);
});

document.addEventListener("click", ({ target }) => { if (target.closest("[data-close]")) document.getElementById("dialog").close(); });
document.body.addEventListener("htmx:afterSwap", ({ detail }) => {
  const dialog = document.getElementById("dialog");
  if (detail.target.id === "dialog-body" && !dialog.open) dialog.showModal();
});
document.documentElement.dataset.ready = "yes";
