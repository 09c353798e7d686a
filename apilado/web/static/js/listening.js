// What this page hears, in no document: which stack (as it is, or a cast), what of it (parts alone, one EQ point), where,
// and for as long as something is held: a part overdone, left out or alone, or an edit as if it were made.
//
// What has been heard since a comparison began is compared: it is played at equal loudness, until that is ended.

import { post, tell } from "./api.js";

const HELD = "[data-overdo], [data-adds], [data-without], [data-hear]";
const NOTHING = { alone: [], point: "", place: "", dry: false, backing: true, piece: false };
const LISTS = { layer: "layers", duck: "duckers", trigger: "triggers", section: "sections", backing: "backing" };
const LEFT_OUT = /\/(path|filters)\/|^movements\//; // lines of what can be left out: not those of a source or a place
const MOST_COMPARED = 16;
const MOST_SLOTS = 2; // casts that the audio thread keeps

export class Listening {
  constructor(bench) {
    this.bench = bench;
    this.own = { ...NOTHING, ...JSON.parse(sessionStorage.getItem(`heard ${bench.url}`) ?? "{}") };
    this.second = 0; // the cast that one key hears
    this.hidden = false;
    this.cast = 0; // the number of the cast that is heard; 0: the stack as it is
    this.held = null; // { button or key, heard }: what is heard for as long as it is held
    this.compared = []; // what was heard in this comparison, { slot, heard } each
    this.equal = sessionStorage.getItem("equal loudness") !== "no";
    this.levels = new Map(); // slot -> what the server said last of how loud it is
    this.slots = []; // of casts, the one that was heard last comes last
    this.listenToHolding();
    document.getElementById("you-hear").addEventListener("click", (event) => this.pressed(event.target.closest("[data-word]")?.dataset.word));
  }

  /** What is heard of the stack while nothing is held and no cast is heard. */
  heard() {
    return this.own;
  }

  query() {
    return new URLSearchParams({ heard: JSON.stringify(this.own) });
  }

  /** What is heard now, and the slot that it lies in. */
  now() {
    if (this.held) return { slot: "held", heard: { ...this.own, ...this.held.heard } };
    return this.cast ? { slot: `cast ${this.cast}`, heard: { ...this.own, cast: this.cast } } : { slot: "own", heard: this.own };
  }

  // --- what is heard ---------------------------------------------------------------------------------------------

  /** Hears a part alone, with others that are, or no longer. */
  toggle(owner) {
    const others = this.own.alone.filter((other) => other !== owner);
    this.hear({ alone: others.length < this.own.alone.length ? others : [...others, owner], point: "" });
  }

  /** Hears only what an EQ point touches, or the whole again. */
  togglePoint(path) {
    this.hear({ point: this.own.point === path ? "" : path });
  }

  /** The parts that are heard where some are alone, or where one is muted or no longer, by their rows. */
  sounding(alone, toggled = "") {
    const rows = [...document.querySelectorAll("#layers [data-owner]")];
    return rows.filter((row) => row.classList.contains("is-muted") === (row.dataset.owner === toggled)).map((row) => row.dataset.owner)
      .filter((owner) => !alone.length || alone.includes(owner));
  }

  /** A row is muted, or no longer: it is heard so at once. */
  muted(owner) {
    if (this.held || this.cast || this.own.point || this.own.place) return;
    this.bench.player.provisional(this.sounding(this.own.alone, owner));
  }

  /** Hears it in a place, or here again. */
  goTo(place) {
    this.hear({ place: place === this.own.place ? "" : place }, { compared: true });
  }

  /** The finished piece in the loop's place, or the stack again: as loud as each other. */
  togglePiece() {
    this.hear({ piece: !this.own.piece }, { compared: true });
  }

  /** All of the backing, or none. */
  toggleBacking() {
    this.hear({ backing: !this.own.backing });
  }

  /** To the next place, or the one before; here is one of them. */
  walk(by) {
    const places = ["", ...document.getElementById("you-hear").dataset.places.split(" ")];
    this.hear({ place: places.at((places.indexOf(this.own.place) + by) % places.length) }, { compared: true });
  }

  /** What has gone from the document is let go: it would be heard alone again if it came back. */
  letGo(gone) {
    const { alone, point, piece } = this.own;
    const left = { alone: alone.filter((owner) => !gone.includes(owner)), point: gone.includes(point) ? "" : point, piece: piece && !gone.includes("piece") };
    if (left.alone.length < alone.length || left.point !== point || left.piece !== piece) this.hear(left);
  }

  hear(change, { compared = false } = {}) {
    if ("alone" in change && !this.own.point && !this.own.place && !this.own.dry) this.bench.player.provisional(this.sounding(change.alone));
    if (compared) this.compare(this.now());
    else this.compared = []; // what is heard alone is another thing
    this.own = { ...this.own, ...change };
    this.levels.clear(); // of what was heard before
    sessionStorage.setItem(`heard ${this.bench.url}`, JSON.stringify(this.own));
    if (compared) this.compare(this.now());
    this.ask();
    if (this.cast) this.lendCast();
    this.show();
    this.bench.step("plan");
  }

  /** Hears a cast in the running loop; 0: the stack as it is. */
  hearCast(number) {
    if (number === this.cast) return;
    this.compare(this.now());
    this.cast = number;
    this.second = number || this.second;
    this.compare(this.now());
    if (number) this.lendCast();
    else {
      this.bench.player.giveBack();
      this.ask();
    }
    this.show();
  }

  /** This stack, or the cast that was chosen last. */
  hearKept(kept) {
    if (!kept) this.hearCast(0);
    else if (this.second) this.hearCast(this.second);
    else if (!this.bench.casts.open) this.bench.casts.toggle();
  }

  forgetCast(number) {
    if (this.second === number) this.second = 0;
    this.bench.player.drop([`cast ${number}`]);
    this.compared = this.compared.filter(({ heard }) => heard.cast !== number);
  }

  /** What is heard is not told: it is to be guessed. */
  hide(hidden) {
    this.hidden = hidden;
    document.getElementById("you-hear").classList.toggle("is-hidden", hidden);
    this.show();
  }

  async lendCast() {
    const { slot, heard } = this.now();
    this.slots = [...this.slots.filter((other) => other !== slot), slot];
    this.bench.player.drop(this.slots.splice(0, Math.max(0, this.slots.length - MOST_SLOTS)));
    try {
      await this.bench.player.lend({ slot, heard, against: this.others({ slot, heard }), fresh: true });
    } catch (error) {
      if (error.status === 204) return;
      this.cast = 0;
      this.bench.player.giveBack();
      this.show();
      tell(error.message, { fault: true });
    }
  }

  /**
   * An edit is made: the stack as it is is to be heard. What else was compared would have to be rendered anew for each
   * edit: of that only what stays as it was, such as a cast, and the same place and here are compared further.
   */
  edited() {
    if (this.cast) this.hearCast(0);
    const before = this.compared.length;
    this.compared = this.compared.filter(({ heard }) => !heard.without && !heard.trial && (!heard.place || heard.place === this.own.place));
    if (this.compared.length === before) return;
    this.ask({ later: true });
    this.showLevel();
  }

  ask(how) {
    this.bench.player.audition(this.own, this.others({ slot: "own", heard: this.own }), how);
  }

  /** Asks for the own loop at the start. */
  begin() {
    this.bench.player.equal(this.equal);
    this.ask();
    this.show();
  }

  // --- equal loudness --------------------------------------------------------------------------------------------

  compare(one) {
    const text = JSON.stringify(one.heard);
    this.compared = [...this.compared.filter(({ heard }) => JSON.stringify(heard) !== text), one].slice(-MOST_COMPARED);
  }

  /** What has been heard besides one thing; of slots that hold something else by now, only how loud it was. */
  others(one) {
    const current = { slot: "own", heard: this.own };
    const text = (each) => JSON.stringify(each.heard);
    return this.compared.filter((each) => text(each) !== text(one)).map((each) => (each.slot !== "own" || text(each) === text(current) ? each : { ...each, slot: "" }));
  }

  endComparison() {
    this.compared = [];
    this.ask();
    if (this.cast) this.lendCast();
    this.show();
  }

  setEqual(on) {
    this.equal = on;
    sessionStorage.setItem("equal loudness", on ? "yes" : "no");
    this.bench.player.equal(on);
    this.show();
  }

  /** What the server says of how loud it is. */
  levelled(level) {
    this.levels.set(level.slot, { ...this.levels.get(level.slot), ...level });
    this.showLevel();
  }

  // --- held ------------------------------------------------------------------------------------------------------

  /** What a button stands for. */
  meant({ dataset }) {
    if (dataset.hear) {
      const only = dataset.hearOnly ? { alone: [dataset.hearOnly], backing: false } : {};
      return { trial: JSON.parse(dataset.hear), section: this.bench.sections.chosen, ...only };
    }
    const [name] = ["overdo", "without", "adds"].filter((each) => dataset[each]);
    return { [name === "adds" ? "only" : name]: dataset[name] };
  }

  async hold(by, heard) {
    if (this.held) return;
    const mine = (this.held = { by, heard });
    by.button?.setAttribute("aria-pressed", true);
    const matched = heard.trial || heard.without;
    if (matched) this.compare({ slot: this.cast ? `cast ${this.cast}` : "own", heard: this.cast ? { ...this.own, cast: this.cast } : this.own });
    const now = this.now();
    if (matched) this.compare(now);
    this.show();
    try {
      if (!this.bench.player.playing) await this.bench.player.start();
      await this.bench.player.lend({ ...now, against: matched ? this.others(now) : [] });
      if (this.held !== mine) this.back(); // it came too late
    } catch (error) {
      if (error.status !== 204) tell(error.message, { fault: true });
    }
  }

  letItGo() {
    if (!this.held) return;
    this.held.by.button?.removeAttribute("aria-pressed");
    this.held = null;
    this.back();
    this.bench.player.drop(["held"]);
    this.show();
  }

  back() {
    if (this.held) return;
    if (this.cast) this.lendCast();
    else {
      this.bench.player.giveBack();
      this.ask();
    }
  }

  /** The sheet was drawn anew while something was held: its button is another one now. */
  redrawn() {
    const { button } = this.held?.by ?? {};
    if (!button || button.isConnected) return;
    const text = JSON.stringify(this.meant(button));
    const again = [...document.querySelectorAll(HELD)].find((each) => JSON.stringify(this.meant(each)) === text);
    if (!again) return;
    this.held.by.button = again;
    again.setAttribute("aria-pressed", true);
  }

  listenToHolding() {
    document.addEventListener("pointerdown", (event) => {
      const button = event.target.closest(HELD);
      if (button && event.button === 0) this.hold({ button }, this.meant(button));
    });
    for (const name of ["pointerup", "pointercancel", "blur"]) window.addEventListener(name, () => this.letItGo());
    document.addEventListener("keydown", (event) => {
      const near = event.target.closest?.(HELD);
      const typing = event.target.matches?.("input:not([type=range], [type=checkbox]), select, textarea");
      const plain = !typing && !event.ctrlKey && !event.metaKey && !event.altKey && !document.querySelector("dialog[open]");
      const key = event.key.toLowerCase();
      let held = null;
      if (near && (event.key === " " || event.key === "Enter")) held = [{ button: near, key }, this.meant(near)];
      else if (plain && key === "o") {
        const button = document.querySelector("#sheet [data-overdo]");
        if (button) held = [{ button, key }, this.meant(button)];
      } else if (plain && key === "x" && this.chosen()) held = [{ key }, { [event.shiftKey ? "only" : "without"]: this.chosen() }];
      if (!held) return;
      event.preventDefault();
      event.stopPropagation();
      if (!event.repeat) this.hold(...held);
    }, true);
    document.addEventListener("keyup", (event) => {
      if (this.held?.by.key && this.held.by.key === event.key.toLowerCase()) this.letItGo();
    }, true);
  }

  /** The address of what can be left out: the step whose line has the focus, the handle that is chosen, what is selected. */
  chosen() {
    const line = document.activeElement?.closest?.("#sheet [data-line]")?.dataset.line ?? "";
    if (LEFT_OUT.test(line)) return line;
    const { item, selected } = this.bench;
    if (item.startsWith("point:")) return item.slice(6);
    if (item.startsWith("course:")) return `movements/${item.split(":")[1]}`;
    const [kind, id] = selected.split(":");
    if (kind in LISTS) return id ? `${LISTS[kind]}/${id}` : document.querySelector("#sheet [data-without]")?.dataset.without ?? "";
    return ["kick", "space"].includes(kind) ? kind : "";
  }

  // --- told ------------------------------------------------------------------------------------------------------

  pressed(word) {
    if (word === "cast") this.bench.casts.toggle();
    else if (word === "place") this.bench.elsewhere.toggle();
    else if (word === "level") this.setEqual(!this.equal);
    else if (word === "backing") this.toggleBacking();
    else if (word === "bus") this.hear({ dry: !this.own.dry });
    else if (word === "what" && this.own.piece) this.togglePiece();
    else if (word === "what" && (this.own.alone.length || this.own.point)) this.hear({ alone: [], point: "" });
    else if (word === "end") this.endComparison();
  }

  /** Which buttons are pressed in, and the line that tells what is heard. */
  show() {
    document.querySelectorAll("[data-alone]").forEach((button) => button.setAttribute("aria-pressed", this.own.alone.includes(button.dataset.alone)));
    document.querySelectorAll("[data-listen]").forEach((button) => button.setAttribute("aria-pressed", button.dataset.listen === this.own.point));
    document.querySelectorAll("[data-piece]").forEach((button) => button.setAttribute("aria-pressed", this.own.piece));
    document.querySelectorAll("[data-go-to]").forEach((button) => button.setAttribute("aria-pressed", button.dataset.goTo === this.own.place));
    document.querySelectorAll("[data-hear-cast]").forEach((button) => button.setAttribute("aria-pressed", !this.hidden && Number(button.dataset.hearCast) === this.cast));
    document.querySelectorAll(".cast-key").forEach((key) => { key.hidden = Number(key.closest("[data-cast]").dataset.cast) !== this.second; });
    this.tell();
    this.showLevel();
  }

  async tell() {
    const { heard } = this.now();
    const text = JSON.stringify(heard);
    try {
      const { words } = await post(`${this.bench.url}/hearing`, { heard });
      if (text !== JSON.stringify(this.now().heard)) return;
      if (this.hidden) words[0] = { name: "cast", said: "one of the two", plain: false };
      for (const { name, said, plain } of words) {
        const place = document.querySelector(`#you-hear [data-word=${name}]`);
        place.textContent = said;
        place.hidden = !said;
        place.classList.toggle("is-plain", plain);
      }
    } catch { /* the next one tells */ }
  }

  showLevel() {
    const place = document.querySelector("#you-hear [data-word=level]");
    const comparing = this.compared.length > 1;
    document.querySelector("#you-hear [data-word=end]").hidden = !comparing;
    const level = this.levels.get(this.now().slot);
    const loud = this.hidden || level?.loudness === undefined ? "" : level.loudness > -100 ? `${level.loudness.toFixed(1)} LUFS` : "silent";
    const gain = this.hidden ? "matched" : comparing && level ? (!this.equal ? "not matched" : !level.matched ? "cannot be matched" : level.gain < -0.05 ? `${level.gain.toFixed(1)} LU` : "matched") : "";
    place.textContent = [loud, gain].filter(Boolean).join(", ").replaceAll("-", "−") || "as it is";
    place.setAttribute("aria-pressed", this.equal);
    place.classList.toggle("is-plain", !gain || gain === "matched");
  }
}
