// A worker that posts edits, fetches the sound that they make, and hands it to the audio thread: however long the page
// takes to draw, the ear does not wait for it.

import { get, postRaw, Refused } from "./api.js";

let address = ""; // of the loop
let alone = ""; // what is heard alone, as a query
let audio = null; // { port, rate } of the audio thread
let loop = null; // what was fetched last: { left, right, revision, rate }
let lent = null; // the order of another loop that is heard instead, until it is given back
let wanted = null;
let fetched = null; // { revision, abort } of the request in flight

const ORDERS = {
  begin({ url }) {
    address = url;
  },

  /** Another audio thread, which runs at `rate`. */
  audio({ port, rate }) {
    audio = { port, rate };
    if (lent) carryLent().catch(() => {});
    else carry(loop);
  },

  refresh,

  /** Something else is heard alone: the same revision sounds otherwise. */
  alone({ query }) {
    if (query === alone) return;
    alone = query;
    if (!loop && !fetched && wanted === null) return; // the first sound is still to be asked for
    wanted = wanted ?? fetched?.revision ?? loop.revision;
    if (fetched) fetched.abort.abort();
    else run();
  },

  async edit({ id, url, data, final }) {
    try {
      const answer = await (await postRaw(url, data)).json();
      if (answer.revision !== data.base) refresh({ revision: answer.revision, final });
      postMessage({ id, answer });
    } catch (error) {
      refused(id, error);
    }
  },

  /** Another loop until the own one is given back: with a part overdone, or with an edit as if it were made. */
  async lend({ id, ...order }) {
    lent = order;
    try {
      await carryLent();
      postMessage({ id, answer: null });
    } catch (error) {
      refused(id, error);
    }
  },

  giveBack() {
    lent = null;
    carry(loop);
  },
};

onmessage = ({ data }) => ORDERS[data.order](data);

function refused(id, { message, status, name }) {
  postMessage({ id, error: { message, status, name } });
}

/** A loop to the audio thread, if that runs at its rate. */
function carry(sound) {
  if (sound && audio?.rate === sound.rate) audio.port.postMessage({ order: "load", loop: sound });
}

/** What is lent, as it is by now; nothing if it is given back before it comes. */
async function carryLent() {
  const order = lent;
  const { overdo, url, data } = order;
  const sound = await samplesOf(overdo ? await get(`${address}&${alone}&overdo=${encodeURIComponent(overdo)}`) : await postRaw(url, data));
  if (lent === order) carry(sound);
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
    fetched = { revision, abort: new AbortController() };
    try {
      loop = await samplesOf(await get(`${address}&${alone}`, fetched.abort.signal));
      if (lent) carryLent().catch(() => {}); // an edit while it is held: it goes on being heard, of the new revision
      else carry(loop);
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
    slow: decodeURIComponent(response.headers.get("X-Slow") ?? ""),
  };
}
