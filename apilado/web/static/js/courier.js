// A worker that posts edits, fetches the sound that they make, and hands it to the audio thread: however long the page
// takes to draw, the ear does not wait for it.

import { postRaw, Refused } from "./api.js";

let address = ""; // of the stack
let client = ""; // this page
let asked = { heard: {}, against: [] }; // what is heard in the own slot, and what it is compared with: { slot, heard } each
let audio = null; // { port, rate } of the audio thread
let loop = null; // fetched last for the own slot: { blocks, size, frames, number, … }; a block in the audio thread is null
let lent = null; // the order of another loop that is heard instead, until it is given back
let equal = true; // what is compared is heard at equal loudness
const others = new Map(); // slot -> the loop that was lent from it last, with the order that it was fetched by
const gains = new Map(); // slot -> by how many dB it is turned down beside what it is compared with
let wanted = null;
let fetched = null; // { revision, abort } of the request in flight
let edition = 0; // counts what is to be heard: of two sounds, the one of the later edition is the newer
let pending = null; // { revision, edition }: heard as a stretch so far; its loop is asked for when the hand rests
const came = { first: 0, further: 0 }; // seconds from asking for the last stretch until it was here; further ones run beside a loop
let timers = [];
let newest = 0; // the number of the last edit, unless it was refused
let followed = 0; // the revision whose loop is fetched, or will be
let passedOver = 0; // the newest revision of an edit that came too late to be heard by itself
let fetchingStems = false;
let measuring = null; // the level that is asked for

const PARTS = "application/x-apilado-parts";
const RESTING_MS = 250; // a hand that rests in the middle of a drag wants to hear all of it
const SOON_MS = 120, AGAIN_MS = 450; // where the loop has not come by then, the next stretch is asked for

const ORDERS = {
  begin(order) {
    ({ url: address, client } = order);
  },

  /** Another audio thread, which runs at `rate`. */
  audio({ port, rate }) {
    audio = { port, rate };
    port.onmessage = ({ data: { where } }) => further(where);
    others.clear(); // they went to the thread before
    if (lent) carryLent().catch(() => {});
    if (loop?.blocks.every(Boolean)) carry("own", loop);
    else if (loop) again();
  },

  refresh,

  /** Something else is heard of the stack, or beside other things: the same revision sounds otherwise. */
  audition(order) {
    if (JSON.stringify(order.asked) === JSON.stringify(asked)) return;
    asked = order.asked;
    if (order.later) return; // what follows asks for it
    if (!loop && !fetched && wanted === null) return; // the first sound is still to be asked for
    wanted = wanted ?? fetched?.revision ?? loop.revision;
    if (order.playhead) ahead(order.playhead, wanted);
    if (fetched) fetched.abort.abort();
    else run();
  },

  /** Stems around the playhead, for what is soloed or muted next: from here to the audio thread. */
  async stems({ playhead }) {
    if (fetchingStems || !audio) return;
    fetchingStems = true;
    try {
      const response = await postRaw(`${address}/stems`, { client, heard: {}, ...playhead });
      const parts = [];
      let head = null;
      let gain = null;
      for await (const part of partsOf(response)) {
        const samples = new Float32Array(part.content);
        if (part.head.gain) [head, gain] = [part.head, samples];
        else parts.push({ owner: part.head.owner, bus: part.head.bus, left: samples.slice(0, head.frames), right: samples.slice(head.frames) });
      }
      if (head && audio?.rate === head.rate) {
        const buffers = [gain.buffer, ...parts.flatMap(({ left, right }) => [left.buffer, right.buffer])];
        audio.port.postMessage({ order: "stems", stems: { ...head, gain, parts } }, buffers);
        postMessage({ stems: true });
      }
    } catch { /* the exact one comes all the same */ }
    fetchingStems = false;
  },

  /** Whether what is compared is heard at equal loudness. */
  equal({ on }) {
    equal = on;
    turn([...gains.keys()]);
  },

  /** Slots whose loops are not wanted any more. */
  drop({ slots }) {
    slots.forEach((slot) => others.delete(slot));
    audio?.port.postMessage({ order: "drop", slots });
  },

  async edit({ id, url, data, final }) {
    const heard = { posted: now() };
    let stretched = null;
    newest = id;
    try {
      const response = await postRaw(url, { ...data, hears: data.hears && !lent ? { ...data.hears, came: came.first || null } : null });
      if (!response.headers.get("Content-Type").startsWith(PARTS)) {
        const answer = await response.json();
        if (answer.revision !== data.base) followFrom(id, answer.revision, final);
        postMessage({ id, answer });
        return;
      }
      for await (const { head, content } of partsOf(response)) {
        if (head.answer) {
          if (!stretched && head.answer.revision !== data.base) followFrom(id, head.answer.revision, final);
          postMessage({ id, answer: head.answer });
        } else if (head.kept) postMessage({ id, kept: head.kept, moved: head.moved });
        else {
          if (stretched) takenNext(head, content, final, heard);
          else taken(head, content, final, heard);
          stretched = head;
        }
      }
    } catch (error) {
      refused(id, error);
      if (id !== newest) return;
      newest = 0;
      if (passedOver > followed) follow(passedOver, true); // then that is what is to be heard
    } finally {
      if (stretched?.more) goOn(stretched, final); // its next piece has not come, whatever became of it
    }
  },

  /** Another loop until the own one is given back, in a slot of its own: what is to be heard, and beside what. */
  async lend({ id, slot, heard, against, fresh }) {
    lent = { slot, heard, against };
    try {
      if (!fresh || others.get(slot)?.text !== JSON.stringify(heard)) await carryLent();
      else {
        if (!against.length) gains.delete(slot); // it is compared with nothing any more
        turn([slot]);
        audio?.port.postMessage({ order: "hear", slot });
      }
      postMessage({ id, answer: null });
    } catch (error) {
      refused(id, error);
    }
  },

  giveBack() {
    lent = null;
    audio?.port.postMessage({ order: "hear", slot: "own" });
  },
};

onmessage = ({ data }) => ORDERS[data.order](data);

const now = () => performance.timeOrigin + performance.now();

/** A stretch has come with the answer to an edit, or the first piece of one: it is heard at once, and its loop when the hand
 * rests. */
function taken(head, content, final, heard) {
  edition += 1;
  came.first = secondsSince(heard.posted);
  Object.assign(heard, { edition, begins: head.begins });
  pending = { revision: head.revision, edition };
  carryStretch(head, content, edition);
  postMessage({ budget: { posted: heard.posted, edition, revision: head.revision, rendered: head.ms, sent: now() } });
  timers.forEach(clearTimeout);
  timers = [];
  if (head.more) return; // what is rendered beside the next piece would keep it waiting
  goOn(head, final);
  furtherBefore(head.frames, head, came.first, came.first);
}

/** The next piece of a stretch is heard behind the first. */
function takenNext(head, content, final, heard) {
  if (heard.edition !== pending?.edition) return; // something newer has come since
  carryStretch(head, content, heard.edition);
  goOn(head, final);
  const frames = ((head.begins - heard.begins + head.length) % head.length) + head.frames;
  furtherBefore(frames, head, secondsSince(heard.posted), 2 * came.first); // which was shorter than that one will be
}

/** The loop of what has come as a stretch, unless something newer is heard. */
function goOn({ revision }, final) {
  if (pending?.revision === revision) follow(revision, final);
}

const secondsSince = (posted) => Math.min((now() - posted) / 1000, 60);

/** The next stretch is asked for before this one ends after so many frames: some of it had been played when it came, and
 * the next one may take twice as long as lately, or as this edit's `first`. */
function furtherBefore(frames, { rate }, gone, first) {
  const next = 2 * Math.max(first, came.further);
  later(Math.min(Math.max(1000 * (frames / rate - gone - next), SOON_MS), AGAIN_MS), askWhere);
}

/** The audio thread knows where the playhead is, however busy the page may be. */
function askWhere() {
  audio?.port.postMessage({ order: "where" });
}

/** The next stretch, from where the playhead is by now: the one that is heard will end before its loop has come. */
async function further(playhead) {
  const mine = pending;
  if (!mine || lent || !playhead) return;
  const head = await stretchFrom({ ...playhead, further: true }, mine);
  if (pending !== mine) return;
  if (head) furtherBefore(head.frames, head, came.further, came.first);
  else later(AGAIN_MS, askWhere);
}

/** What is heard otherwise now is heard as a stretch first. */
function ahead(playhead, revision) {
  edition += 1;
  pending = { revision, edition };
  stretchFrom(playhead, pending);
}

async function stretchFrom(playhead, mine) {
  const [posted, kind] = [now(), playhead.further ? "further" : "first"];
  let found = null;
  try {
    const response = await postRaw(`${address}/stretch`, { client, heard: asked.heard, ...playhead, came: came[kind] || null });
    for await (const { head, content } of partsOf(response)) {
      came[kind] = secondsSince(posted);
      if (pending !== mine || head.revision !== mine.revision) continue;
      carryStretch(head, content, mine.edition);
      found = head;
    }
  } catch { /* the loop is on its way */ }
  return found;
}

function later(after, what) {
  const mine = pending;
  timers.push(setTimeout(() => { if (pending === mine && mine) what(); }, after));
}

function carryStretch({ frames, begins, length, rate, revision }, content, number) {
  if (lent || audio?.rate !== rate) return;
  const samples = new Float32Array(content);
  const block = { left: samples.slice(0, frames), right: samples.slice(frames) };
  const sound = { slot: "own", blocks: [block], size: frames, frames, begins, length, revision, edition: number, gain: gainOf("own") };
  audio.port.postMessage({ order: "load", loop: sound }, [block.left.buffer, block.right.buffer]);
}

/** The loop of an edit: at once where the hand has let go, else when it rests. */
function follow(revision, final) {
  followed = revision;
  if (final) return refresh({ revision, final });
  pending ??= { revision, edition };
  pending.revision = revision;
  timers.forEach(clearTimeout);
  timers = [];
  later(RESTING_MS, () => refresh({ revision, final }));
}

/** What an edit that was not heard by itself has come to; where a newer one is on its way, that is heard instead. */
function followFrom(id, revision, final) {
  if (id >= newest) follow(revision, final);
  else passedOver = Math.max(passedOver, revision);
}

/** The parts of an answer, each as soon as it is there: { head, content }. */
async function* partsOf(response) {
  const reader = response.body.getReader();
  let held = new Uint8Array(0);
  const upTo = async (count) => {
    const chunks = [held];
    let size = held.length;
    while (size < count) {
      const { done, value } = await reader.read();
      if (done) return null;
      chunks.push(value);
      size += value.length;
    }
    const all = chunks.length === 1 ? held : joined(chunks, size);
    held = all.subarray(count);
    return all.subarray(0, count);
  };
  for (;;) {
    const size = await upTo(4);
    if (!size) return;
    const head = JSON.parse(new TextDecoder().decode(await upTo(new DataView(size.buffer, size.byteOffset).getUint32(0, true))));
    const content = await upTo(head.bytes);
    yield { head, content: content.slice().buffer };
  }
}

function joined(chunks, size) {
  const all = new Uint8Array(size);
  let at = 0;
  for (const chunk of chunks) {
    all.set(chunk, at);
    at += chunk.length;
  }
  return all;
}

function refused(id, { message, status, name }) {
  postMessage({ id, error: { message, status, name } });
}

/** A loop to its slot in the audio thread, if that runs at its rate. Its blocks go there, and are not kept here. */
function carry(slot, sound) {
  if (!sound || audio?.rate !== sound.rate) return;
  const buffers = sound.blocks.filter(Boolean).flatMap(({ left, right }) => [left.buffer, right.buffer]);
  audio.port.postMessage({ order: "load", loop: { ...sound, slot, gain: gainOf(slot) } }, buffers);
  sound.blocks = sound.blocks.map(() => null);
}

/** The own loop is asked for once more, all of it: what had been fetched has gone to an audio thread that is no more. */
function again() {
  wanted = wanted ?? fetched?.revision ?? loop.revision;
  loop = null;
  if (fetched) fetched.abort.abort();
  else run();
}

const gainOf = (slot) => (equal ? 10 ** ((gains.get(slot) ?? 0) / 20) : 1);

function turn(slots) {
  audio?.port.postMessage({ order: "gains", gains: Object.fromEntries(slots.map((slot) => [slot, gainOf(slot)])) });
}

/** How loud a sound is that is heard beside nothing is asked for behind it: the ear comes first. */
async function measure(slot, heard) {
  const mine = (measuring = {});
  try {
    const found = await (await postRaw(`${address}/levels`, bodyOf(slot, heard, []))).json();
    if (measuring === mine) compared(slot, [], found);
  } catch { /* it is heard, and how loud it is will be told of the next one */ }
}

/** What an answer says of how loud things are beside each other. */
function compared(slot, against, { matches, loudness }) {
  const [own, ...theirs] = matches;
  const told = [[slot, own], ...against.map((each, index) => [each.slot, theirs[index]])].filter(([name]) => name);
  for (const [name, [gain]] of told) gains.set(name, gain);
  turn(told.map(([name]) => name));
  for (const [name, [gain, matched]] of told) postMessage({ level: { slot: name, gain, matched, ...(name === slot && { loudness }) } });
}

const bodyOf = (slot, heard, against, known) => ({ client, slot, heard, against: against.map((each) => each.heard), known });

/** What is lent, as it is by now; nothing if it is given back before it comes. */
async function carryLent() {
  const order = lent;
  const { slot, heard, against } = order;
  const before = others.get(slot);
  const answer = await postRaw(`${address}/loop`, bodyOf(slot, heard, against, before?.number ?? 0));
  const sound = { ...await samplesOf(answer, before), text: JSON.stringify(heard) };
  others.set(slot, sound);
  if (lent !== order) return;
  gains.delete(slot);
  if (sound.levels) compared(slot, against, sound.levels);
  carry(slot, sound);
  audio?.port.postMessage({ order: "hear", slot });
  if (!sound.levels) measure(slot, heard);
}

/** Asks for the sound of a revision. `final` drops a request for an earlier one that is still under way. */
function refresh({ revision, final }) {
  if (wanted === null && (fetched ?? loop)?.revision === revision) return;
  wanted = revision;
  if (fetched && final) fetched.abort.abort();
  if (!fetched) run();
}

async function run() {
  postMessage({ rendering: true });
  while (wanted !== null) {
    const revision = wanted;
    wanted = null;
    edition += 1;
    const number = edition;
    fetched = { revision, abort: new AbortController() };
    try {
      const { heard, against } = asked;
      const answer = await postRaw(`${address}/loop`, bodyOf("own", heard, against, loop?.number ?? 0), fetched.abort.signal);
      loop = { ...await samplesOf(answer, loop), edition: number };
      if (lent) carryLent().catch(() => {}); // an edit while it is held: it goes on being heard, of the new revision
      else if (loop.levels) compared("own", against, loop.levels);
      else gains.delete("own");
      if (!pending || pending.edition < number) {
        pending = null;
        carry("own", loop);
      } // else something newer is heard as a stretch, and its loop will come
      if (!lent && !loop.levels) measure("own", heard);
      postMessage({ fetched: { revision: loop.revision, rate: loop.rate, slow: loop.slow } });
    } catch (error) {
      if (error.name !== "AbortError" && error.status !== 204) {
        postMessage({ fault: error instanceof Refused ? error.message : String(error) });
      } else if (wanted === null) {
        wanted = revision;
      }
    }
    fetched = null;
  }
  postMessage({ rendering: false });
}

/** The samples of an answer, copied as they come in, in blocks. Of one that has not changed, what `before` has: itself, or
 * null where it lies in the audio thread. */
async function samplesOf(response, before = null) {
  const number = (name) => Number(response.headers.get(name));
  const frames = number("X-Frames");
  const size = number("X-Block") || frames;
  const told = response.headers.get("X-Blocks");
  const came = told === null ? [0] : told.split(",").filter(Boolean).map(Number);
  const framesOf = (index) => Math.min(size, frames - index * size);
  const bytes = new Uint8Array(8 * came.reduce((sum, index) => sum + framesOf(index), 0));
  const reader = response.body.getReader();
  for (let at = 0; ;) {
    const { done, value } = await reader.read();
    if (done) break;
    bytes.set(value, at);
    at += value.length;
  }
  const samples = new Float32Array(bytes.buffer);
  const blocks = Array.from({ length: Math.ceil(frames / size) }, (_, index) => before?.blocks[index] ?? null);
  let at = 0;
  for (const index of came) {
    const count = framesOf(index);
    blocks[index] = { left: samples.slice(at, at + count), right: samples.slice(at + count, at + 2 * count) };
    at += 2 * count;
  }
  return {
    blocks,
    size,
    frames,
    number: number("X-Number"),
    revision: number("X-Revision"),
    rate: number("X-Rate"),
    levels: JSON.parse(response.headers.get("X-Levels")),
    slow: decodeURIComponent(response.headers.get("X-Slow") ?? ""),
  };
}
