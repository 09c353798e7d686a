// The drawings: what the server drew is put in its place; sizes, the playhead and the marks of `show` are the page's.

import { Playhead } from "./playhead.js";

const NAMES = ["pile", "profile", "passage", "strip"];
const LOWEST_HZ = 20;
const HIGHEST_HZ = 20000;
const SVG = "http://www.w3.org/2000/svg";

export class Panels {
  constructor() {
    this.svg = Object.fromEntries(NAMES.map((name) => [name, document.getElementById(name)]));
    this.zoom = { first: 0, last: null };
    this.beats = 16;
    this.shown = null;
    this.drawn = { plan: {}, measured: {} };
    this.stops = {}; // which handle of each drawing Tab reaches
    document.addEventListener("focusin", ({ target }) => {
      const svg = target.closest?.("svg.drawing");
      if (!svg || !target.dataset.key) return;
      this.stops[svg.id] = target.dataset.key;
      this.oneStop();
    });
    this.playheads = [...document.querySelectorAll(".playhead")].map((line) => new Playhead(line));
    this.width = this.svg.passage.getBoundingClientRect().width;
  }

  /** Sizes as the server needs them to draw; measured anew only after a resize. */
  sizes() {
    this.size ??= this.measure();
    return { ...this.size, first_beat: this.zoom.first, last_beat: this.zoom.last };
  }

  /** Whether they have another size than the server was told. An observer is called for the first size too. */
  resized() {
    const told = this.size;
    this.size = this.measure();
    return JSON.stringify(told) !== JSON.stringify(this.size);
  }

  measure() {
    const size = (name) => this.svg[name].getBoundingClientRect();
    this.width = size("passage").width;
    return {
      height: Math.max(60, size("passage").height),
      pile: Math.max(40, size("pile").width),
      profile: Math.max(40, size("profile").width),
      passage: Math.max(40, size("passage").width),
      strip: Math.max(40, size("strip").height),
    };
  }

  put(kind, drawings, chosen) {
    const focused = document.activeElement?.closest?.(".plan [data-key]");
    const panel = focused?.ownerSVGElement?.id;
    for (const name of NAMES) {
      // What has not changed is not drawn again: parsing and painting cost more than comparing.
      if (this.drawn[kind][name] === drawings[name]) continue;
      this.drawn[kind][name] = drawings[name];
      this.svg[name].querySelector(`.${kind}`).innerHTML = drawings[name];
    }
    this.choose(chosen);
    if (kind === "plan") this.oneStop();
    if (kind === "plan" && focused) {
      const key = focused.dataset.key;
      const followed = /^(note|hit):/.test(key) && /^(note|hit):/.test(chosen) ? chosen : key;
      this.svg[panel].querySelector(`.plan [data-key="${CSS.escape(followed)}"][tabindex]`)?.focus();
    }
    if (kind === "measured" || this.shown) this.mark();
  }

  /** Each drawing is one stop: of its handles only one is reached by Tab, the one that was held last. */
  oneStop() {
    for (const name of NAMES) {
      const handles = this.handles(name);
      const stop = handles.find((each) => each === document.activeElement) ?? handles.find((each) => each.dataset.key === this.stops[name]) ?? handles[0];
      handles.forEach((each) => each.setAttribute("tabindex", each === stop ? 0 : -1));
    }
  }

  handles(name) {
    return [...this.svg[name].querySelectorAll(".plan [data-drag][tabindex]")];
  }

  /** Puts the focus into a drawing: on what is chosen there, or on what was held last. */
  enter(name, chosen) {
    const handles = this.handles(name);
    (handles.find((each) => each.dataset.key === chosen) ?? handles.find((each) => each.getAttribute("tabindex") === "0"))?.focus();
  }

  /** The next handle of a drawing, or the one before. */
  beside(name, by) {
    const handles = this.handles(name);
    const place = handles.indexOf(document.activeElement);
    handles[(place + by + handles.length) % handles.length]?.focus();
  }

  choose(key) {
    document.querySelectorAll(".plan .is-chosen").forEach((part) => part.classList.remove("is-chosen"));
    if (!key) return;
    document.querySelectorAll(`.plan [data-key="${CSS.escape(key)}"]`).forEach((part) => part.classList.add("is-chosen"));
  }

  // --- from pixels to what they mean, and back -------------------------------------------------------------------

  frequencyAt(event) {
    const box = this.svg.passage.getBoundingClientRect();
    const share = 1 - (event.clientY - box.top) / box.height;
    return LOWEST_HZ * (HIGHEST_HZ / LOWEST_HZ) ** Math.min(1, Math.max(0, share));
  }

  y(frequency) {
    const height = this.svg.passage.getBoundingClientRect().height;
    return height * (1 - Math.log(frequency / LOWEST_HZ) / Math.log(HIGHEST_HZ / LOWEST_HZ));
  }

  range() {
    const last = Math.min(this.zoom.last ?? this.beats, this.beats);
    return [Math.min(this.zoom.first, last), last];
  }

  beatAt(event) {
    const box = this.svg.passage.getBoundingClientRect();
    const [first, last] = this.range();
    return first + ((event.clientX - box.left) / box.width) * (last - first);
  }

  x(beat) {
    const [first, last] = this.range();
    return ((beat - first) / (last - first)) * this.svg.passage.getBoundingClientRect().width;
  }

  /** Zooms by a factor around a beat, or to a stretch. */
  zoomAround(beat, factor) {
    const [first, last] = this.range();
    const span = Math.min(this.beats, Math.max(0.125, (last - first) * factor));
    const share = (beat - first) / (last - first);
    this.zoomTo(beat - share * span, beat + (1 - share) * span);
  }

  /** Moves the stretch that is shown by some pixels. */
  pan(pixels) {
    const [first, last] = this.range();
    const by = (pixels / this.width) * (last - first);
    this.zoomTo(first + by, last + by);
  }

  zoomTo(first, last) {
    const span = Math.min(last - first, this.beats);
    const start = Math.min(Math.max(0, first), this.beats - span);
    this.zoom = { first: start, last: span >= this.beats - 1e-9 ? null : start + span };
  }

  // --- over the drawings -----------------------------------------------------------------------------------------

  /** The playhead where the sound is, on its way over what is gone round in. */
  playhead({ share, round: [begin, end], seconds, goes }, steps) {
    const [first, last] = this.range();
    const way = [begin, end].map((each) => ((each * this.beats - first) / (last - first)) * this.width);
    const lasts = 1000 * (end - begin) * seconds;
    for (const line of this.playheads) line.show(way, lasts, lasts * ((share - begin) / (end - begin)), goes && !steps);
  }

  /** Marks the place of a sounding: { layers, low_hz, high_hz, beats }, or nothing. */
  show(place) {
    this.shown = place;
    this.mark();
  }

  mark() {
    document.querySelectorAll(".shown-band, .shown-beat").forEach((part) => part.remove());
    document.querySelectorAll(".is-shown").forEach((part) => part.classList.remove("is-shown"));
    if (!this.shown) return;
    const { layers, low_hz: low, high_hz: high, beats } = this.shown;
    for (const name of NAMES) {
      const overlay = this.svg[name].querySelector(".overlay");
      if (low && high && name !== "strip") {
        const y = this.y(high);
        overlay.append(shape("rect", "shown-band", { x: 0, width: "100%", y, height: Math.max(2, this.y(low) - y) }));
      }
      if (name === "passage" || name === "strip") {
        for (const beat of beats) {
          const x = this.x(beat);
          overlay.append(shape("line", "shown-beat", { x1: x, x2: x, y1: 0, y2: "100%" }));
        }
      }
    }
    for (const layer of layers) {
      document.querySelectorAll(`.measured [data-select="layer:${CSS.escape(layer)}"]`)
        .forEach((part) => part.classList.add("is-shown"));
    }
  }
}

function shape(name, className, attributes) {
  const made = document.createElementNS(SVG, name);
  made.setAttribute("class", className);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  return made;
}
