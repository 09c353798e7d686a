// The loop as it is heard: transport and place. A worker (courier.js) fetches the sound of the newest revision and swaps
// it in while it plays.

import { Refused } from "./api.js";

export class Player {
  /** @param told ({ sounding, playing, rendering, fault }) => void */
  constructor(url, client, rate, told) {
    this.rate = rate;
    this.told = told;
    this.revision = null; // of the newest sound that was fetched
    this.rendering = false;
    this.idle = Promise.resolve();
    this.context = null;
    this.node = null;
    this.playing = false;
    this.anchor = null;
    this.asked = new Map(); // what the courier owes an answer: number -> { resolve, reject }
    this.courier = new Worker("/static/js/courier.js", { type: "module" });
    this.courier.onmessage = ({ data }) => this.brought(data);
    this.courier.onerror = () => this.broke();
    this.courier.postMessage({ order: "begin", url: new URL(url, location.href).href, client });
  }

  /** Asks for the sound of a revision. `final` drops a request for an earlier one that is still under way. */
  refresh(revision, { final = false } = {}) {
    this.courier.postMessage({ order: "refresh", revision, final });
  }

  /**
   * Posts an edit; the sound that it makes is asked for before the answer is even read here. Where the answer comes in
   * parts, `kept(revision, moved)` is called before it has come.
   */
  edit(url, data, final, kept) {
    const hears = this.playhead();
    return this.ask({ order: "edit", url: new URL(url, location.href).href, data: { ...data, hears }, final }, kept);
  }

  /**
   * Plays another loop until the own one is given back: what is to be heard, in a slot of its own, beside what. One that
   * does not hang on the stack as it is now (`fresh`) is not asked for again where it is there.
   */
  lend({ slot, heard, against, fresh = false }) {
    return this.ask({ order: "lend", slot, heard, against, fresh });
  }

  /** Stems around the playhead are asked for: something may be soloed or muted soon. */
  wantStems() {
    const playhead = this.playhead();
    if (playhead) this.courier.postMessage({ order: "stems", playhead });
  }

  /** Only some parts are heard at once, from their stems: what is exact comes behind it. */
  provisional(owners) {
    if (this.playing) this.node?.port.postMessage({ order: "provisional", owners });
  }

  /** What is heard of the stack, beside what: a stretch at once, then the loop as it then sounds; or `later`, with an edit. */
  audition(heard, against, { later = false } = {}) {
    this.courier.postMessage({ order: "audition", asked: { heard, against }, playhead: this.playhead(), later });
  }

  /** Whether what is compared is heard at equal loudness. */
  equal(on) {
    this.courier.postMessage({ order: "equal", on });
  }

  drop(slots) {
    this.courier.postMessage({ order: "drop", slots });
  }

  giveBack() {
    this.courier.postMessage({ order: "giveBack" });
  }

  ask(order, kept = null) {
    if (this.broken) return Promise.reject(new Refused(this.broken));
    return new Promise((resolve, reject) => {
      const id = (this.number = (this.number ?? 0) + 1);
      this.asked.set(id, { resolve, reject, kept });
      this.courier.postMessage({ ...order, id });
    });
  }

  /** The courier has died: what waits for it ends, so that nothing is thought to be kept that is not. */
  broke() {
    this.broken = "The part of the page that fetches sound has stopped; what was changed last may not be kept. Load the page again.";
    const waiting = [...this.asked.values()];
    this.asked.clear();
    this.rested?.();
    waiting.forEach(({ reject }) => reject(new Refused(this.broken)));
    this.told({ fault: this.broken, rendering: false });
  }

  /** Where the audio thread is in the loop: { place, length } in frames; nothing while it is silent. */
  playhead() {
    if (!this.playing || !this.anchor?.open || !this.context) return null;
    const { time, place, length } = this.anchor;
    const gone = Math.max(0, Math.round((this.context.currentTime - time) * this.context.sampleRate));
    const [first, end] = this.range ? this.range.map((share) => Math.round(share * length)) : [0, length];
    const at = place + gone;
    return { place: place < end && at >= end ? first + ((at - first) % (end - first)) : at % length, length };
  }

  brought({ id, answer, error, kept, moved, rendering, fetched, fault, budget, level, stems }) {
    if (level) this.told({ level });
    if (stems) document.dispatchEvent(new CustomEvent("apilado:stems"));
    if (budget) document.dispatchEvent(new CustomEvent("apilado:budget", { detail: budget }));
    if (kept !== undefined) this.asked.get(id).kept?.(kept, moved);
    else if (id !== undefined) {
      const { resolve, reject } = this.asked.get(id);
      this.asked.delete(id);
      if (error) reject(Object.assign(new Refused(error.message), { status: error.status }));
      else resolve(answer);
    }
    if (rendering !== undefined) {
      this.rendering = rendering;
      if (rendering) this.idle = new Promise((resolve) => { this.rested = resolve; });
      else this.rested?.();
      this.told({ rendering });
    }
    if (fault) this.told({ fault });
    if (fetched) this.take(fetched);
  }

  take({ revision, rate, slow }) {
    this.told({ slow });
    this.revision = revision;
    this.rate = rate;
    if (this.context && this.context.sampleRate !== rate) {
      this.context.close();
      this.context = this.node = this.anchor = null;
      if (this.playing) this.start();
    }
  }

  async start() {
    this.playing = true;
    this.told({ playing: true });
    if (!this.context) {
      const context = new AudioContext({ sampleRate: this.rate });
      this.context = context;
      await context.audioWorklet.addModule("/static/js/loop-processor.js");
      if (this.context !== context) return;
      this.node = new AudioWorkletNode(context, "apilado-loop", { numberOfInputs: 0, outputChannelCount: [2] });
      this.node.port.onmessage = ({ data }) => this.heard(data);
      this.node.connect(context.destination);
      const { port1, port2 } = new MessageChannel();
      this.node.port.postMessage({ order: "listen", port: port1 }, [port1]);
      this.courier.postMessage({ order: "audio", port: port2, rate: context.sampleRate }, [port2]);
      if (this.range) this.node.port.postMessage({ order: "narrow", range: this.range });
      if (this.startShare) this.node.port.postMessage({ order: "seek", share: this.startShare });
    }
    await this.context.resume();
    if (this.playing) this.node?.port.postMessage({ order: "play" });
  }

  pause() {
    this.playing = false;
    this.node?.port.postMessage({ order: "pause" });
    this.told({ playing: false });
  }

  toggle() {
    return this.playing ? this.pause() : this.start();
  }

  seek(share) {
    this.startShare = share;
    if (this.node) this.node.port.postMessage({ order: "seek", share });
  }

  /** Only some of the loop is heard, from one share of it to another; null: all. */
  narrow(range) {
    this.range = range;
    this.node?.port.postMessage({ order: "narrow", range });
  }

  heard({ anchor, sounding, slot, kind, edition, time, place, silent }) {
    if (anchor) this.anchor = anchor;
    if (sounding !== undefined) this.told({ sounding: { revision: sounding, slot, kind, edition, place, at: this.leavesAt(time), delay: 1000 * (this.context.outputLatency || this.context.baseLatency) } });
    if (silent && !this.playing) this.context.suspend();
  }

  /** When a moment of the audio clock leaves the loudspeaker, on the clock of `performance.now()`. */
  leavesAt(time) {
    const { contextTime, performanceTime } = this.context.getOutputTimestamp();
    return performanceTime + 1000 * (time - contextTime);
  }

  /** Where it is in the loop, between which shares of it it goes round now, how long the loop is, and whether it goes. */
  course() {
    const share = this.share();
    const seconds = this.anchor ? this.anchor.length / this.context.sampleRate : 1;
    const narrowed = this.range && share >= this.range[0] && share < this.range[1];
    return { share, round: narrowed ? this.range : [0, 1], seconds, goes: Boolean(this.playing && this.anchor?.open) };
  }

  /** How much of the loop has gone by, 0 to 1. */
  share() {
    if (!this.anchor) return this.startShare ?? 0;
    const { time, place, length, open } = this.anchor;
    const { contextTime } = this.context.getOutputTimestamp();
    const gone = open && this.playing ? Math.max(contextTime - time, -1) * this.context.sampleRate : 0;
    const share = ((place + gone) / length) % 1;
    const whole = share < 0 ? share + 1 : share;
    const [first, end] = this.range ?? [0, 1];
    return whole >= end && place < end * length ? first + ((whole - first) % (end - first)) : whole;
  }
}
