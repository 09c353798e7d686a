// Now: while it plays, the spectrum of this moment over the long-term one, levels and gain that is taken in the lists, and
// loudness and crest of the last three seconds. All of it was measured with the render; here it is only looked up.

import { get } from "./api.js";

const SHOWN_MS = 100; // numbers change no more often: they are to be read
const [QUIETEST_DB, LOUDEST_DB] = [-60, 0]; // of the ruled scale in a row
const MOST_TAKEN_DB = 24; // of the scale of a line
const LAST_SECONDS = 3;

export const LESS_MOTION = matchMedia("(prefers-reduced-motion: reduce)");

export class Now {
  constructor(bench) {
    this.bench = bench;
    this.button = document.getElementById("now-open");
    this.canvas = document.getElementById("now-spectra");
    this.meter = document.getElementById("now-meter");
    this.on = (localStorage.getItem("now") ?? (LESS_MOTION.matches ? "no" : "yes")) === "yes";
    this.data = null;
    this.shownAt = 0;
    this.show();
  }

  toggle() {
    this.on = !this.on;
    localStorage.setItem("now", this.on ? "yes" : "no");
    this.show();
    if (this.on) this.refresh();
    else this.clear();
  }

  show() {
    this.button.setAttribute("aria-pressed", this.on);
  }

  /** What sounds at each moment of the newest render. */
  async refresh() {
    if (!this.on) return;
    const revision = this.bench.revision;
    const query = new URLSearchParams({ client: this.bench.client });
    this.drop();
    this.asking = new AbortController();
    try {
      const bytes = new Uint8Array(await (await get(`${this.bench.url}/now?${query}`, this.asking.signal)).arrayBuffer());
      if (revision === this.bench.revision) this.take(bytes);
    } catch { /* the next measurements bring the next one */ }
  }

  /** What is asked for is of no use any more: not even begun, where the browser has it wait. */
  drop() {
    this.asking?.abort();
  }

  take(bytes) {
    const size = new DataView(bytes.buffer).getUint32(0, true);
    const head = JSON.parse(new TextDecoder().decode(bytes.subarray(4, 4 + size)));
    let at = 4 + size;
    const next = (count) => bytes.subarray(at, (at += count));
    const { moments, rows } = head;
    const parts = new Map(head.parts.map((name) => [name, { levels: next(moments), spectra: next(moments * rows) }]));
    const taken = new Map(head.taken.map((name) => [name, next(moments)]));
    this.data = { ...head, parts, taken, loudness: next(moments), crest: next(moments) };
  }

  db(byte) {
    return this.data.lowest + byte / this.data.steps;
  }

  /** One drawing: `share` of the loop has gone by. */
  draw(share, playing) {
    if (!this.on || !this.data) return;
    if (!playing) {
      if (this.drawn) this.clear();
      return;
    }
    this.drawn = true;
    const time = performance.now();
    const moment = Math.min(this.data.moments - 1, Math.floor(share * this.data.moments));
    this.drawSpectra(moment);
    this.drawRows(moment);
    if (time - this.shownAt < SHOWN_MS) return;
    this.shownAt = time;
    const loud = this.db(this.data.loudness[moment]);
    this.meter.textContent = loud <= this.data.lowest ? "" : `3 s: ${loud.toFixed(1)} LUFS, crest ${(this.data.crest[moment] / this.data.steps).toFixed(1)} dB`.replaceAll("-", "−");
  }

  drawSpectra(moment) {
    const { canvas } = this;
    const [width, height] = [canvas.clientWidth, canvas.clientHeight];
    const scale = devicePixelRatio;
    if (canvas.width !== Math.round(width * scale) || canvas.height !== Math.round(height * scale)) {
      canvas.width = Math.round(width * scale);
      canvas.height = Math.round(height * scale);
    }
    const pen = canvas.getContext("2d");
    pen.setTransform(scale, 0, 0, scale, 0, 0);
    pen.clearRect(0, 0, width, height);
    pen.lineWidth = 1.4;
    const { rows, heights, first_db: first, last_db: last } = this.data;
    for (const { name, tint } of this.heard()) {
      const { spectra } = this.data.parts.get(name);
      pen.strokeStyle = tint;
      pen.beginPath();
      for (let row = 0; row < rows; row += 1) {
        const level = this.db(spectra[moment * rows + row]);
        const x = width * Math.min(1, Math.max(0, (level - first) / (last - first)));
        if (row) pen.lineTo(x, heights[row] * height);
        else pen.moveTo(x, heights[row] * height);
      }
      pen.stroke();
    }
  }

  /** The layers that are heard, with their tints; looked up anew when the rows are drawn anew. */
  heard() {
    const rows = document.querySelector("#layers .rows");
    const state = rows && [...rows.children].map(({ className }) => className).join();
    if (this.rows === rows && this.state === state) return this.found;
    [this.rows, this.state] = [rows, state];
    this.found = [...(rows?.querySelectorAll("[data-select^='layer:'].is-heard") ?? [])].map((row) => ({
      name: `layers/${row.dataset.select.slice(6)}`,
      tint: getComputedStyle(row).getPropertyValue("--tint").trim() || "currentColor",
    })).filter(({ name }) => this.data.parts.has(name));
    return this.found;
  }

  drawRows(moment) {
    const { moments, seconds } = this.data;
    const count = Math.min(moments, Math.round((LAST_SECONDS / seconds) * moments));
    const place = (byte) => Math.min(1, Math.max(0, (this.db(byte) - QUIETEST_DB) / (LOUDEST_DB - QUIETEST_DB)));
    for (const row of document.querySelectorAll("#layers [data-now]")) {
      const levels = this.data.parts.get(row.dataset.now)?.levels;
      row.classList.toggle("has-now", Boolean(levels) && !row.closest(".is-muted, .is-faded"));
      if (!levels) continue;
      let [low, high] = [255, 0];
      for (let back = 0; back < count; back += 1) {
        const byte = levels[(moment - back + moments) % moments];
        if (byte < low) low = byte;
        if (byte > high) high = byte;
      }
      row.style.setProperty("--now", `${100 * place(levels[moment])}%`);
      row.style.setProperty("--now-low", `${100 * place(low)}%`);
      row.style.setProperty("--now-high", `${100 * place(high)}%`);
    }
    for (const line of document.querySelectorAll("#sheet [data-meter]")) {
      const taken = this.data.taken.get(line.dataset.meter);
      line.classList.toggle("has-now", Boolean(taken));
      if (taken) line.style.setProperty("--now", `${Math.min(100, (100 * taken[moment]) / this.data.steps / MOST_TAKEN_DB)}%`);
    }
  }

  clear() {
    this.drawn = false;
    this.canvas.getContext("2d").clearRect(0, 0, this.canvas.width, this.canvas.height);
    this.meter.textContent = "";
    document.querySelectorAll(".has-now").forEach((each) => each.classList.remove("has-now"));
  }
}
