// Plays a loop, and changes over to the next one within 20 ms without losing its place.
//
// While both are equal the output is what was playing, bit for bit: a + g·(b − a). A stretch is a piece of the loop as it
// will be: it is taken at the place that it was made for, and the next piece or the whole loop follows it. Where none has
// come by its end, the loop goes on that was heard before. Of a loop that is narrowed only some frames are heard, again and again.
//
// A sound lies in blocks: of a loop only those are sent here that are others than before.
//
// Several loops are kept here side by side, each in its slot, with the gain that it is heard at; one of them is heard.
// Another one follows it within 20 ms at the same place, as another version of the same loop does.

const FADE_SECONDS = 0.02;
const GATE_SECONDS = 0.01;
const ANCHOR_TURNS = 64;

class LoopProcessor extends AudioWorkletProcessor {
  constructor() {
    super();
    this.slots = new Map(); // slot -> the loop that came last for it: { slot, blocks, size, frames, revision, length, begins: 0, gain }
    this.slot = "own"; // the one that is heard
    this.held = null; // stems around the playhead
    this.frame = new Float64Array(2);
    this.whole = null; // the last whole loop that is heard
    this.now = null; // what is heard: it, or a stretch
    this.place = 0; // of the loop, in frames
    this.coming = null; // { sound, place }: what is being faded to
    this.faded = 0;
    this.waiting = null; // { sound, share }: the newest whole loop that comes next, or a jump
    this.stretches = []; // the newest stretch in its pieces, each until it is taken
    this.sought = null;
    this.range = null; // [first frame, frame behind the last] as shares of the loop
    this.gate = 0;
    this.open = 0;
    this.turns = 0;
    this.fade = Math.round(FADE_SECONDS * sampleRate);
    this.port.onmessage = ({ data }) => this[data.order](data);
  }

  /** The courier's own way here, past the page. */
  listen({ port }) {
    port.onmessage = this.port.onmessage;
    this.courier = port;
  }

  /** Tells the courier which frame is played next of how many; null in silence. */
  where() {
    const { place } = this.coming ?? this;
    const sound = this.coming?.sound ?? this.now;
    this.courier.postMessage({ where: sound && this.open ? { place, length: sound.length } : null });
  }

  /** A whole loop for a slot; or a stretch of the own one, which has a place where it begins and its loop's length. */
  load({ loop }) {
    if (loop.begins !== undefined) {
      if (this.slot !== "own" || this.whole?.length !== loop.length || this.newest >= loop.edition) return;
      this.stretches = [...this.stretches.filter(({ edition }) => edition === loop.edition), loop];
      return;
    }
    const before = this.slots.get(loop.slot)?.blocks;
    const blocks = loop.blocks.map((block, index) => block ?? before[index]);
    const sound = { ...loop, blocks, begins: 0, length: loop.frames };
    this.slots.set(loop.slot, sound);
    if (loop.slot === "own") {
      this.newest = sound.edition ?? this.newest;
      this.stretches = this.stretches.filter(({ edition }) => edition > sound.edition);
    }
    if (loop.slot === this.slot) this.await(sound);
  }

  /** Another slot is heard from now on, as soon as there is a loop in it. */
  hear({ slot }) {
    if (slot === this.slot) return;
    this.slot = slot;
    this.stretches = [];
    if (this.slots.has(slot)) this.await(this.slots.get(slot));
  }

  /** Stems around the playhead: { revision, begins, frames, length, gain, parts: [{ owner, bus, left, right }] }. */
  stems({ stems }) {
    this.held = stems;
  }

  /**
   * Only some parts are heard, from their stems, until the exact sound comes: those of the bus at the gain that it had.
   * Nothing where the stems do not reach so far, or are those of another revision than the one that is heard.
   */
  provisional({ owners }) {
    const { held, now } = this;
    if (!held || !now || this.slot !== "own" || held.length !== now.length || this.gate === 0) return;
    if (held.revision !== (this.coming?.sound ?? now).revision) return;
    const parts = held.parts.filter(({ owner }) => owners.includes(owner));
    const sound = { ...held, parts, slot: "own", revision: now.revision, edition: now.edition, turned: now.gain };
    const { place } = this.coming ?? this;
    if (this.left(sound, place) <= 2 * this.fade) return;
    if (this.coming) { // in the middle of a fade it goes on from there
      this.now = this.coming.sound;
      this.place = this.coming.place;
    }
    this.stretches = [];
    this.turn(sound, place);
  }

  /** Slots that are not wanted any more. */
  drop({ slots }) {
    for (const slot of slots) this.slots.delete(slot);
  }

  /** The gains of slots, by their names. */
  gains({ gains }) {
    for (const [slot, gain] of Object.entries(gains)) {
      const sound = this.slots.get(slot);
      if (!sound || sound.gain === gain) continue;
      const turned = { ...sound, gain };
      this.slots.set(slot, turned);
      if (slot === this.slot) this.await(turned);
    }
  }

  /** A loop is to be heard next. */
  await(sound) {
    this.waiting = { sound, share: this.waiting?.share ?? this.sought };
    this.sought = null;
    if (!this.now || (this.gate === 0 && this.open === 0)) this.settle();
  }

  seek({ share }) {
    if (!this.now) {
      this.sought = share; // the loop is still on its way
      return;
    }
    this.waiting = { sound: this.waiting?.sound ?? this.whole, share };
    if (this.gate === 0 && this.open === 0) this.settle();
  }

  /** Only some frames are heard, as shares of the loop; null: all. */
  narrow({ range }) {
    this.range = range;
    if (!range || !this.now) return;
    const [first, end] = this.frames(this.now.length);
    const place = (this.coming ?? this).place;
    if (place < first || place >= end) this.seek({ share: range[0] });
  }

  play() {
    this.open = 1;
    this.anchor();
  }

  pause() {
    this.open = 0;
  }

  /** The frames that are heard of a loop. */
  frames(length) {
    return this.range ? this.range.map((share) => Math.round(share * length)) : [0, length];
  }

  /** Where a sound is to go on: at `share` of its length, or where the present one has got to. */
  placeIn({ sound, share }) {
    const { length } = sound;
    if (share !== null && share !== undefined) return Math.floor(share * length + 1e-6) % length;
    const { place } = this.coming ?? this;
    const before = (this.coming?.sound ?? this.now)?.length ?? length;
    return before === length ? place : Math.floor((place / before) * length) % length;
  }

  settle() {
    this.place = this.placeIn(this.waiting);
    this.now = this.whole = this.waiting.sound;
    this.waiting = this.coming = null;
    this.tell(this.now);
    this.anchor();
  }

  /** Begins to fade to another sound. */
  turn(sound, place) {
    this.coming = { sound, place };
    this.faded = 0;
    if (sound !== this.now) this.tell(sound);
  }

  tell(sound) {
    const kind = sound.parts ? "stems" : sound.frames < sound.length ? "stretch" : "loop";
    this.port.postMessage({ sounding: sound.revision, slot: sound.slot, kind, edition: sound.edition, time: currentTime, place: (this.coming ?? this).place });
  }

  /** How many frames a sound still has from a place on; less than none where it has not begun. */
  left(sound, place) {
    const gone = (place - sound.begins + sound.length) % sound.length;
    return gone < sound.frames ? sound.frames - gone : -1;
  }

  /** What is to be faded to next, before a frame is played; nothing while a fade goes on. */
  next() {
    if (this.coming) return;
    const { now, whole, place } = this;
    const [first, end] = this.frames(now.length);
    if (this.range && place === end % now.length) {
      this.turn(this.left(now, first) > this.fade ? now : whole, first);
    } else if (this.waiting) {
      const waiting = this.waiting;
      this.waiting = null;
      this.whole = waiting.sound;
      this.turn(waiting.sound, this.placeIn({ sound: waiting.sound, share: waiting.share }));
    } else {
      const begun = this.begun(place);
      if (begun) this.turn(begun, place);
      else if (now !== whole && this.left(now, place) <= this.fade) this.turn(whole, place);
    }
  }

  /** The last stretch that has begun, if enough of it is left at a place; those that came before it are not wanted then. */
  begun(place) {
    for (let index = this.stretches.length - 1; index >= 0; index -= 1) {
      const stretch = this.stretches[index];
      if (this.left(stretch, place) > 2 * this.fade) {
        this.stretches.splice(0, index + 1);
        return stretch;
      }
    }
    return null;
  }

  /** One frame of a sound, into `this.frame`. */
  read(sound, place) {
    let at = place - sound.begins;
    if (at < 0) at += sound.length;
    let l = 0;
    let r = 0;
    if (sound.parts) {
      if (at < sound.frames) {
        const gain = sound.gain[at];
        for (const { bus, left, right } of sound.parts) {
          l += bus ? gain * left[at] : left[at];
          r += bus ? gain * right[at] : right[at];
        }
        l *= sound.turned;
        r *= sound.turned;
      }
    } else if (at < sound.frames) {
      const block = sound.blocks[Math.trunc(at / sound.size)];
      l = sound.gain * block.left[at % sound.size];
      r = sound.gain * block.right[at % sound.size];
    }
    this.frame[0] = l;
    this.frame[1] = r;
  }

  anchor() {
    const { place } = this.coming ?? this;
    const sound = this.coming?.sound ?? this.now;
    if (sound) this.port.postMessage({ anchor: { time: currentTime, place, length: sound.length, open: this.open } });
  }

  process(_, [[left, right]]) {
    if (!this.now) return true;
    if (this.gate === 0 && this.open === 0) {
      if (this.waiting) this.settle();
      return true;
    }
    const step = 1 / Math.round(GATE_SECONDS * sampleRate);
    for (let i = 0; i < left.length; i += 1) {
      this.next();
      const { now } = this;
      this.read(now, this.place);
      let l = this.frame[0];
      let r = this.frame[1];
      if (this.coming) {
        const { sound } = this.coming;
        this.read(sound, this.coming.place);
        this.faded += 1;
        const g = this.faded / this.fade;
        l += g * (this.frame[0] - l);
        r += g * (this.frame[1] - r);
        this.coming.place = (this.coming.place + 1) % sound.length;
      }
      this.place = (this.place + 1) % now.length;
      if (this.coming && this.faded >= this.fade) {
        ({ sound: this.now, place: this.place } = this.coming);
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
    this.turns = (this.turns + 1) % ANCHOR_TURNS;
    if (this.turns === 0) this.anchor();
    return true;
  }
}

registerProcessor("apilado-loop", LoopProcessor);
