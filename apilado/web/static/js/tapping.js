// Single notes that are played by hand: with the keys of the computer, on the frequency axis, with a MIDI keyboard.

import { get, tell } from "./api.js";

const ROWS = [
  ["KeyZ", "KeyX", "KeyC", "KeyV", "KeyB", "KeyN", "KeyM", "Comma", "Period", "Slash"],
  ["KeyA", "KeyS", "KeyD", "KeyF", "KeyG", "KeyH", "KeyJ", "KeyK", "KeyL", "Semicolon"],
  ["KeyQ", "KeyW", "KeyE", "KeyR", "KeyT", "KeyY", "KeyU", "KeyI", "KeyO", "KeyP"],
];
const ROW_APART = 5; // semitones: a fourth from row to row
const LOWEST_PITCH = 24, OCTAVE = 12, MOST_OCTAVES = 6;
const FIRST_S = 0.4, WHOLE_S = 6, SPLICE_S = 0.012, AHEAD_S = 0.02, SHORTEST_S = 0.08;
const NOTE_ON = 0x90, NOTE_OFF = 0x80;

/** The pitch of a key: up by semitones along a row, by a fourth from row to row; null for any other key. */
export function pitchOfKey(code, octave) {
  const row = ROWS.findIndex((keys) => keys.includes(code));
  return row < 0 ? null : LOWEST_PITCH + OCTAVE * octave + ROW_APART * row + ROWS[row].indexOf(code);
}

export class Tapping {
  constructor(bench) {
    this.bench = bench;
    this.on = false;
    this.octave = 1;
    this.context = null;
    this.notes = new Map(); // by what holds it: a key, the pointer, a note of a keyboard
    this.button = document.getElementById("tap");
    document.addEventListener("keydown", (event) => this.pressed(event), true);
    document.addEventListener("keyup", ({ code }) => this.letGo(code), true);
    window.addEventListener("blur", () => this.letAllGo());
    document.getElementById("pile").addEventListener("pointerdown", (event) => this.pointed(event), true);
    document.addEventListener("pointerup", () => this.letGo("pointer"));
    document.addEventListener("pointercancel", () => this.letGo("pointer"));
  }

  toggle() {
    this.on = !this.on;
    this.button.setAttribute("aria-pressed", this.on);
    document.getElementById("bench").classList.toggle("is-tapping", this.on);
    if (!this.on) return this.letAllGo();
    this.context ??= new AudioContext({ sampleRate: this.bench.player.rate, latencyHint: "interactive" });
    this.context.resume();
    tell("Keys play notes now: semitones along a row, a fourth from row to row; - and = change the octave; Escape ends it. A press on the Pile plays the note at that height.");
    return this.keyboards();
  }

  /** MIDI keyboards, where the browser has them. */
  async keyboards() {
    if (!navigator.requestMIDIAccess || this.midi) return;
    try {
      this.midi = await navigator.requestMIDIAccess();
    } catch {
      return; // not allowed: keys and pointer play on
    }
    const listen = () => this.midi.inputs.forEach((input) => { input.onmidimessage = ({ data }) => this.message(data); });
    this.midi.onstatechange = listen;
    listen();
  }

  message([status, pitch, velocity]) {
    const kind = status & 0xf0;
    if (!this.on) return;
    if (kind === NOTE_ON && velocity > 0) this.play(`midi ${pitch}`, pitch, velocity);
    else if (kind === NOTE_ON || kind === NOTE_OFF) this.letGo(`midi ${pitch}`);
  }

  pressed(event) {
    const typing = event.target.matches?.("input:not([type=range], [type=checkbox], [type=file]), select, textarea");
    if (!this.on || typing || event.ctrlKey || event.metaKey || event.altKey || document.querySelector("dialog[open]")) return;
    const by = { Minus: -1, Equal: 1 }[event.code];
    const pitch = pitchOfKey(event.code, this.octave);
    if (event.code === "Escape") this.toggle();
    else if (by) this.octave = Math.min(MOST_OCTAVES, Math.max(0, this.octave + by));
    else if (pitch !== null && !event.repeat) this.play(event.code, pitch);
    else if (pitch === null) return;
    event.preventDefault();
    event.stopImmediatePropagation();
  }

  pointed(event) {
    if (!this.on || event.button !== 0) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    const pitch = Math.round(69 + 12 * Math.log2(this.bench.panels.frequencyAt(event) / 440));
    this.play("pointer", Math.min(127, Math.max(0, pitch)));
  }

  /** Plays a note until it is let go: its beginning as soon as it is there, the rest joined to it. */
  async play(holder, pitch, velocity = 100) {
    this.letGo(holder);
    const { context } = this;
    const [kind, name] = this.bench.selected.split(":");
    const query = `pitch=${pitch}&velocity=${velocity}&layer=${kind === "layer" ? encodeURIComponent(name) : ""}`;
    const level = new GainNode(context, { gain: 1 });
    level.connect(context.destination);
    const note = { level, release: 0.08, gone: false, parts: [] };
    this.notes.set(holder, note);
    try {
      const first = await this.fetched(`${query}&seconds=${FIRST_S}`, note);
      const begins = context.currentTime + AHEAD_S;
      this.part(note, first, begins, 0);
      if (note.gone) this.fade(note, begins + SHORTEST_S); // let go before it was there: a short note
      document.dispatchEvent(new CustomEvent("apilado:tapped", { detail: { pitch, peak: note.parts.length ? peak(first) : 0, part: "first" } }));
      if (note.gone) return;
      const whole = await this.fetched(`${query}&seconds=${WHOLE_S}`, note);
      // Where the first part still sounds the whole goes on from it; where it has ended, from here.
      const joins = Math.max(begins + FIRST_S - 4 * SPLICE_S, context.currentTime + AHEAD_S);
      this.part(note, whole, joins, joins - begins);
      document.dispatchEvent(new CustomEvent("apilado:tapped", { detail: { pitch, peak: peak(whole), part: "whole" } }));
    } catch (error) {
      if (this.notes.get(holder) === note) this.notes.delete(holder);
      tell(error.message, { fault: true });
    }
  }

  async fetched(query, note) {
    const response = await get(`${this.bench.url}/tap?${query}`);
    note.release = Number(response.headers.get("X-Release-Ms")) / 1000;
    const frames = Number(response.headers.get("X-Frames"));
    const samples = new Float32Array(await response.arrayBuffer());
    const buffer = this.context.createBuffer(2, frames, Number(response.headers.get("X-Rate")));
    [0, 1].forEach((channel) => buffer.copyToChannel(samples.subarray(channel * frames, (channel + 1) * frames), channel));
    return buffer;
  }

  /** One part of a note from a moment on; the one before it goes over into it. */
  part(note, buffer, at, offset) {
    if ((note.gone && offset) || offset >= buffer.duration) return;
    const gain = new GainNode(this.context, { gain: offset ? 0 : 1 });
    const source = new AudioBufferSourceNode(this.context, { buffer });
    source.connect(gain).connect(note.level);
    source.start(at, offset);
    if (offset) {
      gain.gain.setValueAtTime(0, at);
      gain.gain.linearRampToValueAtTime(1, at + SPLICE_S);
      const before = note.parts.at(-1);
      before?.gain.setValueAtTime(1, at);
      before?.gain.linearRampToValueAtTime(0, at + SPLICE_S);
    }
    note.parts.push(gain);
    source.onended = () => gain.disconnect();
  }

  letGo(holder) {
    const note = this.notes.get(holder);
    if (!note) return;
    this.notes.delete(holder);
    note.gone = true;
    if (note.parts.length) this.fade(note, this.context.currentTime);
    document.dispatchEvent(new CustomEvent("apilado:tapped", { detail: { part: "let go" } }));
  }

  /** Lets a note die away from a moment on, by 60 dB in the release of its voice. */
  fade(note, at) {
    const { gain } = note.level;
    gain.setValueAtTime(gain.value, at);
    gain.setTargetAtTime(0, at, Math.max(note.release, 0.01) / 6.9);
    setTimeout(() => note.level.disconnect(), 1000 * (at - this.context.currentTime + note.release) + 200);
  }

  letAllGo() {
    [...this.notes.keys()].forEach((holder) => this.letGo(holder));
  }
}

function peak(buffer) {
  return [0, 1].reduce((most, channel) => buffer.getChannelData(channel).reduce((a, v) => Math.max(a, Math.abs(v)), most), 0);
}
