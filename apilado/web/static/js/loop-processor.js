// Plays a loop, and changes over to the next one within 20 ms without losing its place.
//
// While both are equal the output is what was playing, bit for bit: a + g·(b − a).

const FADE_SECONDS = 0.02;
const GATE_SECONDS = 0.01;
const ANCHOR_BLOCKS = 64;

class LoopProcessor extends AudioWorkletProcessor {
  constructor() {
    super();
    this.loop = null; // { left, right, revision }
    this.place = 0;
    this.coming = null; // { loop, place }
    this.faded = 0;
    this.waiting = null; // { loop, share }: the newest of what comes next
    this.sought = null;
    this.gate = 0;
    this.open = 0;
    this.blocks = 0;
    this.port.onmessage = ({ data }) => this[data.order](data);
  }

  /** The courier's own way here, past the page. */
  listen({ port }) {
    port.onmessage = this.port.onmessage;
  }

  load({ loop }) {
    this.waiting = { loop, share: this.waiting?.share ?? this.sought };
    this.sought = null;
    if (!this.loop || (this.gate === 0 && this.open === 0)) this.settle();
  }

  seek({ share }) {
    if (!this.loop) {
      this.sought = share; // the loop is still on its way
      return;
    }
    this.waiting = { loop: this.waiting?.loop ?? this.coming?.loop ?? this.loop, share };
    if (this.gate === 0 && this.open === 0) this.settle();
  }

  play() {
    this.open = 1;
    this.anchor();
  }

  pause() {
    this.open = 0;
  }

  /** Where `loop` is to go on: at `share` of its length, or where the present one has got to. */
  placeIn({ loop, share }) {
    if (share !== null) return Math.floor(share * loop.left.length) % loop.left.length;
    const place = this.coming ? this.coming.place : this.place;
    const length = (this.coming?.loop ?? this.loop)?.left.length ?? loop.left.length;
    return length === loop.left.length ? place : Math.floor((place / length) * loop.left.length) % loop.left.length;
  }

  settle() {
    this.place = this.placeIn(this.waiting);
    this.loop = this.waiting.loop;
    this.waiting = this.coming = null;
    this.port.postMessage({ sounding: this.loop.revision, time: currentTime });
    this.anchor();
  }

  begin() {
    this.coming = { loop: this.waiting.loop, place: this.placeIn(this.waiting) };
    this.waiting = null;
    this.faded = 0;
    this.port.postMessage({ sounding: this.coming.loop.revision, time: currentTime });
  }

  anchor() {
    const { loop, place } = this.coming ?? this;
    if (loop) this.port.postMessage({ anchor: { time: currentTime, place, length: loop.left.length, open: this.open } });
  }

  process(_, [[left, right]]) {
    if (!this.loop) return true;
    if (this.waiting && !this.coming) this.begin();
    if (this.gate === 0 && this.open === 0) return true;
    const fade = Math.round(FADE_SECONDS * sampleRate);
    const step = 1 / Math.round(GATE_SECONDS * sampleRate);
    for (let i = 0; i < left.length; i += 1) {
      let l = this.loop.left[this.place];
      let r = this.loop.right[this.place];
      if (this.coming) {
        this.faded += 1;
        const g = this.faded / fade;
        l += g * (this.coming.loop.left[this.coming.place] - l);
        r += g * (this.coming.loop.right[this.coming.place] - r);
        this.coming.place = (this.coming.place + 1) % this.coming.loop.left.length;
      }
      this.place = (this.place + 1) % this.loop.left.length;
      if (this.faded >= fade && this.coming) {
        ({ loop: this.loop, place: this.place } = this.coming);
        this.coming = null;
        this.faded = 0;
        this.anchor();
      }
      if (this.gate !== this.open) {
        this.gate = this.open ? Math.min(1, this.gate + step) : Math.max(0, this.gate - step);
      }
      left[i] = l * this.gate;
      right[i] = r * this.gate;
    }
    if (this.gate === 0) {
      this.port.postMessage({ silent: true });
      this.anchor();
    }
    this.blocks = (this.blocks + 1) % ANCHOR_BLOCKS;
    if (this.blocks === 0) this.anchor();
    return true;
  }
}

registerProcessor("apilado-loop", LoopProcessor);
