// The loop as it is heard: fetches the sound of the newest revision and swaps it in while it plays.

import { get, postRaw, Refused } from "./api.js";

export class Player {
  /** @param told ({ sounding, playing, rendering, fault }) => void */
  constructor(url, rate, told) {
    this.url = url;
    this.rate = rate;
    this.told = told;
    this.loop = null;
    this.context = null;
    this.node = null;
    this.playing = false;
    this.anchor = null;
    this.fetched = null; // { revision, abort } of the request in flight
    this.wanted = null;
  }

  /** Asks for the sound of a revision. `final` drops a request for an earlier one that is still under way. */
  refresh(revision, { final = false } = {}) {
    if (this.wanted === null && (this.fetched ?? this.loop)?.revision === revision) return this.idle;
    this.wanted = revision;
    if (this.fetched && final) this.fetched.abort.abort();
    return this.fetched ? this.idle : (this.idle = this.run());
  }

  async run() {
    while (this.wanted !== null) {
      const revision = this.wanted;
      this.wanted = null;
      this.fetched = { revision, abort: new AbortController() };
      this.told({ rendering: true });
      try {
        this.take(await this.read(this.fetched.abort.signal));
      } catch (error) {
        if (error.name !== "AbortError" && error.status !== 204) {
          this.told({ fault: error instanceof Refused ? error.message : String(error) });
        } else if (this.wanted === null) {
          this.wanted = revision;
        }
      }
      this.fetched = null;
    }
    this.told({ rendering: false });
  }

  /** The loop with a part overdone, for a moment. */
  overdone(path) {
    return get(`${this.url}&overdo=${encodeURIComponent(path)}`).then(samplesOf);
  }

  /** The loop as it would be after an edit, for a moment. */
  preview(url, edit, client) {
    return postRaw(url, { edit, client }).then(samplesOf);
  }

  /** Plays another loop until the own one is given back. */
  lend(loop) {
    if (loop.rate === this.rate) this.node?.port.postMessage({ order: "load", loop });
  }

  giveBack() {
    if (this.loop) this.node?.port.postMessage({ order: "load", loop: this.loop });
  }

  async read(signal) {
    return samplesOf(await get(this.url, signal));
  }

  take(loop) {
    this.loop = loop;
    this.rate = loop.rate;
    if (this.context && this.context.sampleRate !== loop.rate) {
      this.close();
      if (this.playing) this.start();
    } else {
      this.node?.port.postMessage({ order: "load", loop });
    }
  }

  close() {
    this.context.close();
    this.context = this.node = this.anchor = null;
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
      if (this.loop) this.node.port.postMessage({ order: "load", loop: this.loop });
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

  heard({ anchor, sounding, silent }) {
    if (anchor) this.anchor = anchor;
    if (sounding !== undefined) this.told({ sounding });
    if (silent && !this.playing) this.context.suspend();
  }

  /** How much of the loop has gone by, 0 to 1. */
  share() {
    if (!this.anchor) return this.startShare ?? 0;
    const { time, place, length, open } = this.anchor;
    const { contextTime } = this.context.getOutputTimestamp();
    const gone = open && this.playing ? Math.max(contextTime - time, -1) * this.context.sampleRate : 0;
    const share = ((place + gone) / length) % 1;
    return share < 0 ? share + 1 : share;
  }
}

/** The samples of an answer, copied as they come in. */
async function samplesOf(response) {
  const number = (name) => Number(response.headers.get(name));
  const frames = number("X-Frames");
  const bytes = new Uint8Array(frames * 8);
  const reader = response.body.getReader();
  for (let at = 0; ;) {
    const { done, value } = await reader.read();
    if (done) break;
    bytes.set(value, at);
    at += value.length;
  }
  const samples = new Float32Array(bytes.buffer);
  return {
    left: samples.slice(0, frames),
    right: samples.slice(frames),
    revision: number("X-Revision"),
    rate: number("X-Rate"),
  };
}
