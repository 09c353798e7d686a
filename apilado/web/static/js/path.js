// The path in the sheet: lines that are opened and shut, pinned, put into another order; what is added to it.

import { newGesture } from "./edits.js";
import { showTexts } from "./fields.js";

const SLOP_PX = 4;
const REDUCTION_SHOWN_DB = 18;
const LINES = /\/(source|eq)$|\/(path|bands|tones|filters)\/[^/]+$/; // addresses of what has a line, and lines within it

export class Path {
  constructor(bench) {
    this.bench = bench;
    this.place = document.getElementById("sheet");
    this.side = this.place.parentElement; // with what stands beside it on a wide page
    this.kept = JSON.parse(sessionStorage.getItem(`path ${bench.url}`) ?? '{"opened":{},"pinned":[]}');
    this.focus = null; // the line that is to have the focus when the sheet is drawn
    this.listen();
  }

  /** The lines that are open of what is selected, as a question tells them; nothing where none has been opened yet. */
  query() {
    const opened = this.kept.opened[this.bench.selected];
    return opened && opened.join(",");
  }

  /** The step of the path that is open. */
  top() {
    const opened = this.kept.opened[this.bench.selected] ?? this.shown();
    return opened.find((address) => !address.startsWith("~") && this.line(address)?.matches(".is-top")) ?? opened[0] ?? "";
  }

  /** What the drawings show: the step that is open, or the step or the band that is open in it. */
  open() {
    const top = this.top();
    const inner = (this.kept.opened[this.bench.selected] ?? this.shown()).filter((address) => address.startsWith(`${top}/`) && /\/(path|bands|filters)\/[^/]+$/.test(address));
    return inner.reduce((deepest, address) => (address.startsWith(`${deepest}/`) ? address : deepest), top);
  }

  /** The wave that is open, or the cycle of its table, whose harmonics are pulled. */
  wave() {
    const opened = this.kept.opened[this.bench.selected] ?? this.shown();
    const waves = opened.filter((address) => /^layers\/[^/]+\/source\/tones\/[^/]+(\/table\/[^/]+)?$/.test(address));
    return waves.reduce((deepest, address) => (address.length > deepest.length ? address : deepest), "");
  }

  line(address) {
    return this.side.querySelector(`[data-line="${CSS.escape(address)}"]`);
  }

  shown() {
    const lines = [...this.side.querySelectorAll("[data-line].is-open")].map((line) => line.dataset.line);
    const marks = [...this.side.querySelectorAll("[data-mark][aria-expanded=true]")].map((mark) => `~${mark.dataset.mark}`);
    return [...lines, ...marks];
  }

  keep(opened) {
    this.kept.opened[this.bench.selected] = opened;
    this.save();
  }

  save() {
    sessionStorage.setItem(`path ${this.bench.url}`, JSON.stringify(this.kept));
  }

  /** Opens a line, and shuts those beside it that are not pinned; or shuts it. */
  toggle(address, { only = false } = {}) {
    const line = this.line(address);
    let opened = this.shown();
    if (opened.includes(address)) {
      if (only) return;
      opened = opened.filter((each) => each !== address);
    } else {
      const beside = line ? [...line.parentElement.children].map((each) => each.dataset.line) : [];
      opened = opened.filter((each) => !beside.includes(each) || this.kept.pinned.includes(each));
      opened.push(address);
    }
    this.focus = address;
    this.keep(opened);
    this.bench.opened(address);
  }

  /** Opens what has just been made, with what it lies in. */
  reveal(address, { focus = true } = {}) {
    const opened = this.shown().filter((each) => !each.startsWith("~"));
    const parts = address.split("/");
    for (let count = 2; count <= parts.length; count += 1) {
      const each = parts.slice(0, count).join("/");
      const line = this.line(each);
      if (!line && each !== address && !LINES.test(each)) continue; // the sheet may still be on its way
      const beside = line ? [...line.parentElement.children].map((other) => other.dataset.line) : [];
      for (const other of beside) {
        if (opened.includes(other) && other !== each && !this.kept.pinned.includes(other)) opened.splice(opened.indexOf(other), 1);
      }
      if (!opened.includes(each) && (line?.parentElement !== this.place || count > 2 || each.startsWith("movements/"))) opened.push(each);
    }
    if (focus) this.focus = this.made = address;
    this.keep(opened);
  }

  /** After the sheet was drawn anew: pins, the focus on what was opened, and the numbers that were measured. */
  drawn() {
    this.side.querySelectorAll("[data-pin]").forEach((pin) => pin.setAttribute("aria-pressed", this.kept.pinned.includes(pin.dataset.pin)));
    if (this.focus) {
      const line = this.line(this.focus);
      if (line && !this.side.contains(document.activeElement?.closest("input, select"))) line.querySelector(".line-name").focus({ preventScroll: true });
      line?.scrollIntoView({ block: "nearest" });
      const mode = line && this.made === this.focus && this.bench.modeOf(this.focus);
      if (mode && mode !== this.bench.mode) this.bench.setMode(mode); // what has just been made is drawn
    }
    this.focus = this.made = null;
    this.beside();
    this.meters = this.nows = null;
    this.measured(this.last, { sketches: false });
    const measured = Object.entries(this.bench.texts ?? {}).filter(([name]) => !name.startsWith("words ")); // those are drawn anew
    showTexts(Object.fromEntries(measured));
  }

  /** On a wide page what is open stands beside the path. */
  beside() {
    const place = document.getElementById("sheet-open");
    place.replaceChildren();
    if (getComputedStyle(place).display === "none") return;
    for (const body of this.side.querySelectorAll(".line.is-top > .line-body")) {
      const line = body.parentElement;
      body.dataset.title = line.querySelector(".line-name").textContent;
      place.append(body);
    }
  }

  /** How loud it is behind each step: { address: { thick, reduction: [dB …] } }. */
  measured(found, { sketches = true } = {}) {
    this.last = found;
    if (!found) return;
    this.side.querySelectorAll("[data-stem]").forEach((stem) => {
      const thick = found[stem.dataset.stem]?.thick;
      if (thick !== undefined) stem.dataset.thick = thick;
    });
    if (sketches) this.side.querySelectorAll("[data-sketch]").forEach((sketch) => {
      const line = found[sketch.dataset.sketch]?.sketch;
      if (line !== undefined) sketch.firstElementChild.setAttribute("points", line);
    });
  }

  /** While it plays: the gain that each step takes now, and where what moves is. */
  playing(share, moving, plays) {
    this.meters ??= [...this.side.querySelectorAll("[data-meter]")];
    for (const meter of this.meters) {
      if (meter.classList.contains("has-now")) {
        meter.shownNow = null; // what is taken now is told by its moments
        continue;
      }
      const parts = this.last?.[meter.dataset.meter]?.reduction;
      const now = parts && plays ? parts[Math.min(parts.length - 1, Math.floor(share * parts.length))] : 0;
      const shown = Math.round(Math.min(now, REDUCTION_SHOWN_DB) / REDUCTION_SHOWN_DB * 100);
      if (meter.shownNow !== shown) meter.style.setProperty("--now", `${shown}%`);
      meter.shownNow = shown;
    }
    this.nows ??= [...this.side.querySelectorAll("[data-live]")];
    for (const line of this.nows) {
      const parts = moving?.[line.dataset.live];
      const at = parts && plays ? Math.round(1000 * parts[Math.min(parts.length - 1, Math.floor(share * parts.length))]) : -50;
      if (line.shownNow !== at) {
        line.setAttribute("x1", at);
        line.setAttribute("x2", at);
        line.style.visibility = at < 0 ? "hidden" : "visible";
      }
      line.shownNow = at;
    }
  }

  /** Opens the menu of what can be added, as soon as the sheet is there; what is typed until then goes into it. */
  offer() {
    if (this.bench.sheets.busy || this.bench.shown !== this.bench.selected) {
      this.ahead = "";
      return;
    }
    const menus = [...this.side.querySelectorAll(".add-menu")];
    const menu = menus.find((each) => each.dataset.section.endsWith("/add")) ?? menus[0];
    const typed = this.ahead ?? "";
    this.ahead = undefined;
    if (!menu) return;
    menu.open = true;
    const field = menu.querySelector("[data-find]");
    field.focus();
    field.value = typed.replace("\n", "");
    this.find(field);
    if (typed.endsWith("\n")) this.best(menu)?.click();
  }

  typedAhead(event) {
    if (this.ahead === undefined) return false;
    if (event.key === "Escape") this.ahead = undefined;
    else if (event.key === "Enter") this.ahead += "\n";
    else if (event.key.length === 1) this.ahead += event.key;
    else return false;
    event.preventDefault();
    return true;
  }

  find(field) {
    const words = field.value.trim().toLowerCase();
    const menu = field.closest(".add-menu");
    menu.querySelectorAll(".add-choice").forEach((choice) => { choice.hidden = !choice.textContent.toLowerCase().includes(words); });
    menu.querySelectorAll(".add-family").forEach((family) => { family.hidden = !family.querySelector(".add-choice:not([hidden])"); });
  }

  /** What is meant by what was typed: a name that begins so before one that has it within, before mere words about it. */
  best(menu) {
    const words = menu.querySelector("[data-find]").value.trim().toLowerCase();
    const left = [...menu.querySelectorAll(".add-choice:not([hidden])")];
    const name = (choice) => choice.querySelector("b").textContent.toLowerCase();
    return left.find((each) => name(each).startsWith(words)) ?? left.find((each) => name(each).includes(words)) ?? left[0];
  }

  /** Does what a menu offers; a step comes behind the one that is open. */
  add(choice) {
    const edit = JSON.parse(choice.dataset.edit);
    if ("after" in choice.dataset) edit.after = this.top();
    document.activeElement?.blur(); // nothing is being typed any more
    choice.closest("details").open = false;
    this.bench.edit(() => edit);
  }

  listen() {
    this.side.addEventListener("click", (event) => {
      const { target } = event;
      const open = target.closest("[data-open]") ?? (target.closest("button, input, label, svg.travel") ? null : target.closest(".line-head")?.querySelector("[data-open]"));
      const pin = target.closest("[data-pin]");
      const mark = target.closest("[data-mark]");
      const choice = target.closest(".add-choice");
      if (choice) {
        event.stopPropagation();
        this.add(choice);
      } else if (pin) {
        const others = this.kept.pinned.filter((each) => each !== pin.dataset.pin);
        this.kept.pinned = others.length < this.kept.pinned.length ? others : [...others, pin.dataset.pin];
        this.save();
        pin.setAttribute("aria-pressed", this.kept.pinned.includes(pin.dataset.pin));
      } else if (mark) {
        this.toggle(`~${mark.dataset.mark}`);
      } else if (open) {
        this.toggle(open.dataset.open);
      }
    });
    this.side.addEventListener("input", ({ target }) => { if (target.matches("[data-find]")) this.find(target); });
    this.side.addEventListener("toggle", ({ target }) => {
      if (!target.matches(".add-menu") || !target.open) return;
      target.querySelector("[data-find]").focus({ preventScroll: true });
      target.scrollIntoView({ block: "start" }); // what it offers is seen
    }, true);
    this.side.addEventListener("keydown", (event) => {
      const { target, key } = event;
      if (target.matches("[data-find]") && (key === "Enter" || key === "ArrowDown")) {
        event.preventDefault();
        const first = this.best(target.closest(".add-menu"));
        if (first && key === "Enter") this.add(first);
        else first?.focus();
      } else if (target.matches("[data-find]") && key === "Escape") {
        target.closest("details").open = false;
      } else if (target.matches("[data-open]") && event.altKey && (key === "ArrowUp" || key === "ArrowDown")) {
        event.preventDefault();
        const edit = target.dataset[key === "ArrowUp" ? "earlier" : "later"];
        this.focus = target.dataset.open;
        if (edit) this.bench.edit(() => JSON.parse(edit));
      } else if (target.matches("[data-open]") && !event.altKey && (key === "ArrowUp" || key === "ArrowDown")) {
        event.preventDefault();
        const names = [...this.side.querySelectorAll("[data-open].line-name")];
        names[names.indexOf(target) + (key === "ArrowUp" ? -1 : 1)]?.focus();
      } else if (target.matches("[data-open]") && key === "Delete") {
        const remove = [...this.line(target.dataset.open).querySelectorAll(".line-body > .button-row > .btn-danger")].at(-1);
        remove?.click();
      }
    });
    this.dragLines();
    this.pullTravel();
  }

  /** A line is taken by its head and let go between others. */
  dragLines() {
    let drag = null;
    this.side.addEventListener("pointerdown", (event) => {
      const head = event.target.closest(".line-head[data-list]");
      if (!head || event.button !== 0 || event.target.closest("[data-toggle], [data-pin]")) return;
      drag = { head, y: event.clientY, moved: false, to: Number(head.dataset.place) };
    });
    document.addEventListener("pointermove", (event) => {
      if (!drag || (!drag.moved && Math.abs(event.clientY - drag.y) < SLOP_PX)) return;
      drag.moved = true;
      const others = [...this.side.querySelectorAll(`.line-head[data-list="${CSS.escape(drag.head.dataset.list)}"]`)];
      others.forEach((head) => head.parentElement.classList.remove("goes-before", "goes-behind"));
      drag.head.parentElement.classList.add("is-taken");
      const middles = others.map((head) => { const box = head.parentElement.getBoundingClientRect(); return box.top + box.height / 2; });
      const from = Number(drag.head.dataset.place);
      const before = middles.filter((middle, place) => place !== from && middle < event.clientY).length;
      drag.to = before;
      const mark = others.filter((_, place) => place !== from);
      if (mark[before]) mark[before].parentElement.classList.add("goes-before");
      else mark.at(-1)?.parentElement.classList.add("goes-behind");
    });
    const end = (event) => {
      if (!drag) return;
      const { head, moved, to } = drag;
      drag = null;
      this.side.querySelectorAll(".goes-before, .goes-behind, .is-taken").forEach((line) => line.classList.remove("goes-before", "goes-behind", "is-taken"));
      if (!moved) return;
      document.addEventListener("click", swallow, { capture: true, once: true });
      setTimeout(() => document.removeEventListener("click", swallow, true));
      if (event.type === "pointerup" && to !== Number(head.dataset.place)) {
        const path = head.querySelector("[data-open]").dataset.open;
        this.bench.edit(() => ({ op: "move", path, to }));
      }
    };
    document.addEventListener("pointerup", end);
    document.addEventListener("pointercancel", end);
  }

  /** The end of what a value travels is pulled on its slider. */
  pullTravel() {
    let drag = null;
    const send = (event, final) => {
      const box = drag.svg.getBoundingClientRect();
      const share = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
      const { low, high, scale } = drag.slider.dataset;
      const end = scale === "log" ? Number(low) * (high / low) ** share : Number(low) + share * (high - low);
      drag.end.setAttribute("x", share * 1000 - 8);
      const { movement, target } = drag.end.dataset;
      this.bench.edit(() => ({ op: "travel-to", movement, target, end }), drag.gesture, { final });
    };
    this.side.addEventListener("pointerdown", (event) => {
      const end = event.target.closest("[data-travel]");
      if (!end || event.button !== 0) return;
      event.preventDefault();
      const svg = end.ownerSVGElement;
      drag = { end, svg, slider: svg.parentElement.querySelector("input[type=range]"), gesture: newGesture() };
      svg.setPointerCapture(event.pointerId);
    });
    this.side.addEventListener("pointermove", (event) => { if (drag) send(event, false); });
    this.side.addEventListener("pointerup", (event) => {
      if (!drag) return;
      send(event, true);
      drag = null;
      this.bench.refreshControls(false);
    });
    this.side.addEventListener("pointercancel", () => { drag = null; });
  }
}

function swallow(event) {
  event.stopPropagation();
  event.preventDefault();
}
