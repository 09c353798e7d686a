// The bench: holds what is chosen and shown, sends edits, and brings drawings, sheet and sound up to date.

import { get, post, tell } from "./api.js";
import { listenToBorders } from "./borders.js";
import { listenToButtons } from "./buttons.js";
import { Casts } from "./casts.js";
import { listenToDrops } from "./drops.js";
import { EditQueue } from "./edits.js";
import { Files } from "./files.js";
import { listenToFields, renamePaths, showStates, showTexts, showValues } from "./fields.js";
import { listenToGestures } from "./gestures.js";
import { listenToHandles } from "./handles.js";
import { Jobs, Quarry } from "./jobs.js";
import { listenToKeys } from "./keys.js";
import { Listening } from "./listening.js";
import { Newest } from "./newest.js";
import { LESS_MOTION, Now } from "./now.js";
import { Panels } from "./panels.js";
import { Path } from "./path.js";
import { Player } from "./player.js";
import { handsOff, listenToPresses, openDialog, replaceKeepingPlace, underHand } from "./redraw.js";
import { Remedies } from "./remedies.js";
import { Sections } from "./sections.js";
import { Tapping } from "./tapping.js";
import { clientOfTab, Tabs } from "./tabs.js";
import { View } from "./views.js";

const OVERTAKEN = 204;
const MEASURED = /^(sub|bus|space|shared|kick|trigger:.*|duck(:.*)?|balance)$/;
const RENDERING_SHOWN_MS = 300;
const [STEMS_WANTED_MS, STEMS_AGAIN_MS] = [4000, 1000];
const SETTLING_MS = 20;
const RESTING_MS = 250; // a hand that rests in the middle of a drag wants to see
const STEP_MS = 100; // of the playhead, where less motion is wanted; of what is told, while an edit is waited for
const PRESSED_MS = 120; // a hand that goes on without lifting has begun to pull by then
const DRAWN_MS = 40; // between two drawings: each takes time from what is heard where there is no graphics processor

class Bench {
  constructor(root) {
    this.url = `/stacks/${root.dataset.stack}`;
    this.client = clientOfTab();
    this.revision = Number(root.dataset.revision);
    this.pitches = root.dataset.pitches.split(" ").map(Number); // the lowest and the highest that a note can have
    this.info = { beats: Number(root.dataset.beats), beatsPerBar: Number(root.dataset.beatsPerBar) };
    this.selected = sessionStorage.getItem(`selected ${this.url}`) ?? "piece";
    this.item = "";
    this.mode = "eq";
    this.eq = ""; // the address of the EQ that is pulled, where a part has several
    this.panels = new Panels();
    this.panels.beats = this.info.beats;
    this.player = new Player(this.url, this.client, Number(root.dataset.rate), (said) => this.heard(said));
    this.setThere = 0; // edits from the sheet or a layer's row
    this.ahead = null; // the revision of an edit that is kept, and whose answer is still on its way
    this.edits = new EditQueue({
      send: (edit, gesture, final, kept) => this.send(edit, gesture, final, kept),
      answered: (answer, edit, final) => this.answered(answer, edit, final),
      refused: (error) => this.refused(error),
      rested: () => this.rested(),
    });
    this.plumb = new View(this, "plumb", "Listening to every note at every border …", { goal: "worst" });
    this.room = new View(this, "room", "Trying out what makes room …", {});
    this.elsewhere = new View(this, "elsewhere", "Listening elsewhere …", {});
    this.casts = new Casts(this);
    this.quarry = new Quarry(this);
    this.jobs = new Jobs(this);
    this.views = [this.plumb, this.room, this.elsewhere, this.casts, this.quarry];
    this.remedies = new Remedies(this);
    this.path = new Path(this);
    this.files = new Files(this);
    this.sections = new Sections(this);
    this.tapping = new Tapping(this);
    this.listening = new Listening(this);
    this.now = new Now(this);
    // A hand over the rows, or a key in them, may solo or mute something.
    const near = () => { this.stemsWanted = performance.now() + STEMS_WANTED_MS; };
    for (const name of ["pointerover", "pointermove", "focusin"]) document.getElementById("layers").addEventListener(name, near);
    document.addEventListener("keydown", near);
    this.asked = 0;
    this.stepping = Promise.resolve();
    this.measuring = new Newest(() => this.drawMeasured(), (error) => {
      if (error.status !== OVERTAKEN) tell(error.message, { fault: true });
    });
    this.measureTimer = null;
    this.sheets = new Newest(() => this.drawControls(), (error) => tell(error.message, { fault: true }));
  }

  view() {
    return { ...this.panels.sizes(), selected: this.selected, mode: this.mode, eq: this.eq, open: this.path.open(), wave: this.path.wave(), lanes: this.lanes ?? {}, hit: this.hit ?? false, ...this.sections.view(), ...this.listening.heard() };
  }

  /** Tells assistive technology, and whoever waits, that the page is not up to date yet. */
  busy() {
    const waiting = this.steps > 0 || Boolean(this.pressTimer) || this.edits.busy || this.measuring.busy || this.measureTimer !== null || this.player.rendering || (this.sheets.busy && !underHand());
    document.getElementById("bench").setAttribute("aria-busy", waiting);
  }

  // --- edits -------------------------------------------------------------------------------------------------------

  /** Sends the edit that `make` gives; of one gesture, only the last that is waiting. */
  edit(make, gesture = null, { final = gesture === null } = {}) {
    if (document.activeElement?.closest("#sheet, #layers")) this.setThere += 1;
    this.edits.push(make, gesture, final);
    this.busy();
  }

  async send(edit, gesture, final, kept) {
    this.listening.edited();
    this.now.drop();
    const view = this.view();
    const { whole = false, ...bare } = edit;
    const data = { edit: bare, whole, base: this.ahead ?? this.revision, gesture, client: this.client, final, view };
    const answer = await this.player.edit(`${this.url}/edits`, data, final, (revision, moved) => {
      this.ahead = revision;
      renamePaths(moved);
      kept();
    });
    return { ...answer, view };
  }

  answered({ view, ...answer }, edit, final) {
    if (answer.revision === this.ahead) this.ahead = null;
    renamePaths(answer.moved);
    this.accept(answer, final, { asked: true });
    if (edit.op === "split-layer") this.setMode("eq"); // the cut is made: one that was refused leaves the knife in hand
    const undrawn = !answer.plan && this.edits.atLast; // something else than a newer edit has overtaken it
    if (undrawn || view.selected !== this.selected || view.mode !== this.mode) this.step("plan"); // or chosen meanwhile
  }

  refused(error) {
    tell(error.message, { fault: true });
    if (error.status === undefined) { // nobody answered: whether it is kept is not known
      this.away = this.lost = true;
      this.ahead = null;
    }
    this.step("plan", { quiet: true });
  }

  /** Undo, redo, or the stack as it is now. */
  step(kind, { quiet = false } = {}) {
    const number = (this.asked += 1);
    this.steps = (this.steps ?? 0) + 1;
    this.busy();
    // One after the other: an answer that comes late would draw what is no longer chosen.
    this.stepping = this.stepping.then(async () => {
      if (kind === "plan" && number !== this.asked) return; // a newer one follows
      try {
        this.accept(await post(`${this.url}/${kind}`, { client: this.client, view: this.view() }));
      } catch (error) {
        if (!quiet) tell(error.message, { fault: true });
      }
    }).finally(() => {
      this.steps -= 1;
      this.busy();
    });
    return this.stepping;
  }

  /** The page as an answer tells; `final` when the hand has let go, `asked` if its sound is on the way. */
  accept(answer, final = true, { asked = false } = {}) {
    // The ear comes first: the sound is asked for before anything is drawn; that of an edit has been asked for already.
    const stale = answer.revision !== this.revision || this.player.revision === null;
    if (stale && !asked) this.player.refresh(answer.revision, { final });
    this.revision = answer.revision;
    this.listening.letGo(answer.gone);
    if (answer.plan && this.toldOf !== answer.revision) this.listening.tell();
    if (answer.plan) this.toldOf = answer.revision; // else with the newer answer
    this.info = { beats: answer.beats, beatsPerBar: answer.beats_per_bar };
    this.panels.beats = answer.beats;
    if (answer.item !== undefined && answer.item !== null) this.item = answer.item;
    if (answer.select) this.remember(answer.select);
    if (answer.select?.startsWith("section:")) this.sections.choose(answer.select.slice(8)); // what is made is changed next
    else this.sections.told(answer.section);
    const opened = this.path.open();
    if (answer.made) this.path.reveal(answer.made);
    const handle = answer.made && `point:${answer.made}`;
    if (answer.plan) this.panels.put("plan", answer.plan, this.item); // else a newer edit's is on its way
    if (handle && this.panels.handles("profile").some((each) => each.dataset.key === handle)) {
      this.item = handle;
      this.path.focus = null;
      this.panels.choose(handle);
      this.panels.enter("profile", handle); // what has just been made has the focus
    }
    showValues(answer.values, this.edits.waiting.length > 0 || this.edits.underWay > 1);
    showTexts(answer.texts);
    showStates(answer.states);
    this.offer("undo", answer.undo);
    this.offer("redo", answer.redo);
    if (answer.notice) tell(answer.notice);
    const chosen = answer.item !== undefined && answer.item !== null;
    const idle = !document.activeElement?.matches("#sheet input"); // a border's new place is in the list of bands
    const owed = this.owed || answer.controls || chosen;
    this.owed = owed && !answer.plan; // with the answer to the newer edit, which is on its way
    if (this.owed) this.everyControl ||= answer.controls;
    else if (owed) this.refreshControls(answer.controls);
    else if (answer.borders && final && idle) this.player.idle.then(() => this.refreshControls(false));
    document.getElementById("soundings").classList.add("is-stale");
    if (stale) this.remedies.drop();
    if (answer.made && this.path.open() !== opened) this.step("plan"); // what is open is drawn on the axes
    this.rest(final ? 0 : RESTING_MS);
  }

  /** Waits until every edit is kept. */
  async settled() {
    while (this.edits.busy) await new Promise((resolve) => { setTimeout(resolve, SETTLING_MS); });
  }

  /** The hand has let go where its last edit had left things: what was rendered on the way there is of no use. */
  rested() {
    this.player.refresh(this.ahead ?? this.revision, { final: true });
    this.rest(0);
  }

  /** Measures once the hand has rested for a while. */
  rest(after) {
    clearTimeout(this.measureTimer);
    this.measureTimer = setTimeout(() => {
      this.measureTimer = null;
      this.refreshMeasured();
    }, after);
    this.busy();
  }

  offer(name, title) {
    const button = document.getElementById(name);
    button.disabled = title === null;
    button.title = title === null ? `Nothing to ${name}` : `${button.textContent}: ${title}`;
  }

  // --- what is chosen ----------------------------------------------------------------------------------------------

  remember(selected) {
    this.selected = selected;
    sessionStorage.setItem(`selected ${this.url}`, selected);
  }

  select(selected) {
    document.querySelector(".panels").classList.add("has-sheet");
    if (selected === this.selected) return;
    this.remember(selected);
    this.item = "";
    if (this.mode === "curve") this.setMode("eq"); // another part has other steps
    else this.step("plan");
  }

  /** Chooses what can be pulled; `pressed`: by a hand that may be about to pull it. */
  choose(key, { pressed = false } = {}) {
    if (key === this.item) return;
    if (key.startsWith("band:")) this.path.reveal(key.slice(5), { focus: false });
    if (key.startsWith("point:")) this.path.reveal(key.slice(6), { focus: false }); // what is pulled has its numbers in the sheet
    if (key.startsWith("course:")) this.path.reveal(`movements/${key.split(":")[1]}`, { focus: false });
    this.item = key;
    this.panels.choose(key);
    if (key.startsWith("crossover:") && this.selected !== "piece") return;
    if (pressed) this.afterPress();
    else this.refreshControls(false);
  }

  /** The sheet of what a hand has pressed on: behind the sound of what it does with it. */
  afterPress() {
    clearTimeout(this.pressTimer);
    this.pressTimer = setTimeout(() => {
      if (this.edits.busy) this.afterPress();
      else this.refreshControls(false);
    }, PRESSED_MS);
    this.busy();
  }

  /** The drum whose hits the Time strip edits. */
  drum() {
    return this.selected.startsWith("trigger:") ? this.selected.slice(8) : document.querySelector("#strip [data-drum]")?.dataset.drum ?? "kick";
  }

  /** Shows an EQ of a part that has several in the Profile, to be pulled. */
  pull(eq) {
    this.eq = eq;
    this.setMode("eq");
  }

  /** A line of the path was opened or shut: what belongs on an axis is drawn there. */
  opened(address) {
    const kind = this.modeOf(address);
    if (kind === "eq") this.eq = address.match(/^.*\/path\/[^/]+/)?.[0] ?? this.eq;
    this.refreshControls(false);
    if (kind !== this.mode) this.setMode(kind);
    else this.step("plan");
    this.rest(0);
  }

  /** What is pulled in the Profile where a line of the path is open. */
  modeOf(address) {
    if (this.mode === "split") return "split";
    const open = this.path.kept.opened[this.selected]?.includes(address);
    if (open && this.path.line(address)?.dataset.curve) return "curve";
    if (/\/points\/[^/]+$/.test(address) && this.mode === "curve") return "curve"; // a point of the curve
    return /\/(path|filters)\//.test(address) ? "eq" : /\/source(\/|$)/.test(address) ? "harmonics" : this.mode;
  }

  setMode(mode, { chosen = false } = {}) {
    this.mode = mode;
    if (chosen) this.path.made = null; // a sheet that is on its way does not change it back
    document.querySelectorAll("[data-mode]").forEach((tool) => tool.setAttribute("aria-pressed", tool.dataset.mode === mode));
    this.step("plan");
  }

  // --- sheet, layers, soundings, measured drawings -------------------------------------------------------------------

  refreshControls(all = true) {
    clearTimeout(this.pressTimer);
    this.pressTimer = null;
    this.everyControl ||= all;
    const drawn = this.sheets.ask();
    this.busy();
    return drawn.then(() => {
      this.busy();
      if (this.path.ahead !== undefined) this.path.offer(); // what was typed until the sheet was there
    });
  }

  async drawControls() {
    const whole = this.everyControl;
    this.everyControl = false;
    const query = this.listening.query();
    query.set("selected", this.selected);
    query.set("item", this.item);
    query.set("section", this.sections.chosen);
    const opened = this.path.query();
    if (opened !== undefined) query.set("opened", opened);
    const parts = whole ? ["sheet", "layers"] : ["sheet"];
    const [asked, set] = [this.selected, this.setThere];
    const unkept = this.edits.unkept !== null || this.edits.waiting.length > 0;
    const texts = await Promise.all(parts.map(async (part) => (await get(`${this.url}/${part}?${query}`)).text()));
    await handsOff(...parts);
    if (unkept || set !== this.setThere) { // what is set there and not kept would be drawn as it was
      await this.settled();
      this.everyControl ||= whole;
      this.sheets.again = true;
      return;
    }
    parts.forEach((part, index) => replaceKeepingPlace(document.getElementById(part), texts[index]));
    if (this.shown !== asked) document.getElementById("sheet").parentElement.scrollTop = 0; // another sheet
    this.shown = asked;
    this.listening.redrawn();
    this.markFaults(document.getElementById("soundings"));
    this.chosenSection();
    this.path.drawn();
  }

  chosenSection() {
    const chosen = this.item && document.querySelector(`#sheet [data-section="${CSS.escape(this.item)}"]`);
    if (!chosen) return;
    chosen.classList.add("is-chosen");
    if (chosen.matches("details")) chosen.open = true;
    chosen.scrollIntoView({ block: "nearest" });
  }

  refreshMeasured() {
    return this.measuring.ask().then(() => this.busy());
  }

  async drawMeasured() {
    await this.player.idle; // the ear comes first
    const answer = await post(`${this.url}/drawings`, { client: this.client, view: this.view() });
    if (answer.revision !== this.revision) return;
    this.panels.put("measured", answer.measured, this.item);
    await handsOff("soundings");
    const place = document.getElementById("soundings");
    replaceKeepingPlace(place, answer.soundings);
    document.getElementById("meter").textContent = answer.meter;
    this.texts = answer.texts;
    showTexts(answer.texts);
    this.path.measured(answer.path);
    this.live = answer.moving;
    place.classList.remove("is-stale");
    this.markFaults(place);
    const faults = place.querySelectorAll(".sounding.is-fault").length;
    document.getElementById("sheet-call").textContent = faults ? `Sheet · ${faults} fault${faults === 1 ? "" : "s"}` : "Sheet";
    if (MEASURED.test(this.selected)) this.refreshControls(false); // their sheets are measured too
    this.views.forEach((view) => view.refresh());
    this.now.refresh();
    this.remedies.tryAll();
  }

  /** Layers that a fault is about carry its mark in their rows. */
  markFaults(place) {
    const faulty = [...place.querySelectorAll(".sounding.is-fault")].flatMap((each) => each.dataset.layers.split(" ").filter(Boolean));
    document.querySelectorAll("#layers li[data-select]").forEach((row) => row.classList.toggle("has-fault", faulty.includes(row.dataset.select.slice(6))));
  }

  // --- hearing -------------------------------------------------------------------------------------------------------

  heard({ sounding, playing, rendering, fault, slow, level }) {
    if (level !== undefined) this.listening.levelled(level);
    if (slow !== undefined) this.slow = slow;
    if (fault) tell(fault, { fault: true });
    const state = document.getElementById("sound-state");
    if (rendering !== undefined) {
      clearTimeout(this.renderingTimer);
      this.stemsAgain = 0; // those that are there are of the loop before
      if (rendering) this.renderingTimer = setTimeout(() => { state.textContent = this.slow ? `rendering … ${this.slow.replace("rendered", "last")}` : "rendering …"; }, RENDERING_SHOWN_MS);
      else state.textContent = this.slow ?? "";
      this.busy();
    }
    if (playing !== undefined) {
      const button = document.getElementById("play");
      button.setAttribute("aria-pressed", playing);
      button.textContent = playing ? "Stop" : "Play";
    }
    if (sounding !== undefined) document.dispatchEvent(new CustomEvent("apilado:sounding", { detail: sounding }));
  }

  seek(beat) {
    this.player.seek(Math.min(Math.max(0, beat / this.info.beats), 0.999999));
  }

  animate() {
    const course = this.player.course();
    const time = performance.now();
    this.panels.playhead(course, LESS_MOTION.matches);
    this.draw(course.share);
    if (this.player.playing && time < (this.stemsWanted ?? 0) && !(time < this.stemsAgain)) {
      this.stemsAgain = time + STEMS_AGAIN_MS;
      this.player.wantStems();
    }
    const every = LESS_MOTION.matches || this.edits.busy ? STEP_MS : DRAWN_MS; // what is waited for has the time
    setTimeout(() => requestAnimationFrame(() => this.animate()), every);
  }

  /** What is told of this moment. */
  draw(share) {
    this.now.draw(share, this.player.playing);
    this.path.playing(share, this.live, this.player.playing);
    const beat = share * this.info.beats;
    const [bar, rest] = [Math.floor(beat / this.info.beatsPerBar), beat % this.info.beatsPerBar];
    const position = `${bar + 1}.${Math.floor(rest) + 1}.${Math.floor((rest % 1) * 4) + 1}`;
    if (position !== this.shownPosition) document.getElementById("position").textContent = position;
    this.shownPosition = position;
  }
}

function listen(bench) {
  listenToHandles(bench);
  listenToFields(bench);
  listenToKeys(bench);
  listenToPresses();
  listenToButtons(bench);
  listenToDrops((at) => at.closest("#layers li[data-select]") ?? document.getElementById("bench"), (file, place) => bench.files.dropped(file, place));
  document.addEventListener("change", (event) => {
    if (event.target.dataset?.upload) bench.files.upload(event.target);
  });
  document.addEventListener("click", ({ target }) => {
    if (!target.matches?.("input[data-upload]")) return;
    // The sheet may be drawn anew while the files are looked through: then the input itself is all that hears of it.
    target.onchange = () => { if (!target.isConnected) bench.files.upload(target); };
  });
  document.body.addEventListener("htmx:afterSwap", (event) => {
    const dialog = document.getElementById("dialog");
    if (event.detail.target.id === "dialog-body" && !dialog.open) dialog.showModal();
  });
  listenToBorders(bench, () => later(() => bench.step("plan")));
  listenToGestures(bench, () => later(() => bench.step("plan")));
  new ResizeObserver(() => {
    if (bench.panels.resized()) later(() => bench.step("plan"));
  }).observe(bench.panels.svg.passage);
}

let timer = null;
function later(what) {
  clearTimeout(timer);
  timer = setTimeout(what, 60);
}

const bench = new Bench(document.getElementById("bench"));
listen(bench);
bench.listening.begin();
await bench.step("plan");
bench.animate();
new Tabs(bench).poll();
const told = sessionStorage.getItem("told");
if (told) tell(told);
sessionStorage.removeItem("told");
bench.jobs.begun();
document.documentElement.dataset.ready = "yes";
