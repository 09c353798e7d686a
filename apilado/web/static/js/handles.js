// Handles in the drawings: what a pointer or an arrow key does to each kind, as edits.

import { newGesture } from "./edits.js";
import { SECTION_KINDS } from "./sections.js";
import { pulled, SOURCE_KINDS, within } from "./sources.js";

const SNAP_BEATS = 0.25;
const SHORTEST_NOTE = 1 / 16;
const KEYS_TOGETHER_MS = 900;
const NEAR_BEATS = 1 / 48;

const snapped = (beats, free) => (free ? Math.round(beats * 64) / 64 : Math.round(beats / SNAP_BEATS) * SNAP_BEATS);

/** For each kind: `take(part, bench)` reads it once; `pull(...)` and `step(...)` give a maker of edits, or null. */
const KINDS = {
  crossover: {
    take: (part) => ({
      moves: JSON.parse(part.dataset.moves), removes: JSON.parse(part.dataset.removes),
      frequency: Number(part.getAttribute("aria-valuenow")),
    }),
    pull: (taken, event, bench) => () => ({ ...taken.moves, frequency_hz: bench.panels.frequencyAt(event) }),
    step: (taken, key, large) => {
      const factor = { ArrowUp: 1, ArrowDown: -1 }[key];
      if (!factor) return null;
      taken.frequency *= 2 ** ((factor * (large ? 4 : 1)) / 24);
      return () => ({ ...taken.moves, frequency_hz: taken.frequency });
    },
    remove: (taken) => () => taken.removes,
  },
  point: {
    take: (part) => ({
      path: part.dataset.path, hasGain: part.dataset.gain === "yes",
      frequency: Number(part.dataset.frequency), gain: Number(part.dataset.db),
    }),
    pull: (taken, event, bench) => pointEdit(taken, bench.panels.frequencyAt(event), gainAt(event, bench)),
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      return pointEdit(taken, taken.frequency * 2 ** ((up * (large ? 4 : 1)) / 24), taken.gain + right * (large ? 3 : 0.5));
    },
    remove: (taken) => () => ({ op: "remove", path: taken.path }),
  },
  note: {
    take: (part, target) => ({ note: JSON.parse(part.dataset.note), layer: part.dataset.layer ?? null, end: target?.dataset.part === "end" }),
    begin: (taken, event, bench) => {
      taken.grabbed = bench.panels.beatAt(event) - taken.note.start_beats;
      taken.from = { ...taken.note };
    },
    pull: (taken, event, bench) => {
      const beat = bench.panels.beatAt(event);
      if (taken.end) {
        const end = snapped(beat, event.shiftKey);
        return noteEdit(taken, { length_beats: Math.max(event.shiftKey ? SHORTEST_NOTE : SNAP_BEATS / 2, end - taken.from.start_beats) });
      }
      const moved = snapped(beat - taken.grabbed - taken.from.start_beats, event.shiftKey);
      const start = within(taken.from.start_beats + moved, 0, bench.info.beats - SHORTEST_NOTE);
      return noteEdit(taken, { start_beats: start, pitch: pitchAt(event, bench) });
    },
    step: (taken, key, large, bench) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      return noteEdit(taken, {
        pitch: within((taken.to ?? taken.note).pitch + up * (large ? 12 : 1), ...bench.pitches),
        start_beats: within((taken.to ?? taken.note).start_beats + right * (large ? 1 : SNAP_BEATS), 0, bench.info.beats - SHORTEST_NOTE),
      });
    },
    remove: (taken) => () => ({ op: "note", was: taken.note, now: null, layer: taken.layer }),
  },
  "pattern-end": {
    take: (part) => ({ bars: Number(part.dataset.bars) }),
    pull: (taken, event, bench) => patternEdit(bench.panels.beatAt(event) / bench.info.beatsPerBar, bench),
    step: (taken, key, large, bench) => {
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!right) return null;
      taken.bars = within(taken.bars + right, 1, bench.info.beats / bench.info.beatsPerBar);
      return patternEdit(taken.bars, bench);
    },
    remove: () => () => ({ op: "set", path: "pattern_bars", value: 0 }),
  },
  hit: {
    take: (part) => ({ hit: Number(part.dataset.hit), drum: part.dataset.drum, others: otherHits(part) }),
    pull: (taken, event, bench) => hitEdit(taken, snapped(bench.panels.beatAt(event), event.shiftKey), bench),
    step: (taken, key, large, bench) => {
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!right) return null;
      const along = right * (large ? 1 : SNAP_BEATS);
      let beat = (taken.to ?? taken.hit) + along;
      while (taken.others.includes(beat)) beat += along; // the next place that is free
      return hitEdit(taken, beat, bench);
    },
    remove: (taken) => () => ({ op: "hit", trigger: taken.drum, was: taken.hit, now: null }),
  },
  pair: {
    take: (part) => ({
      path: part.dataset.path, end: part.dataset.end, frequency: Number(part.dataset.frequency),
      dip: Number(part.dataset.dip), lift: Number(part.dataset.lift),
    }),
    begin: (taken) => { taken.share = taken.end === "dip" ? taken.lift / (taken.dip || 1) : taken.dip / (taken.lift || 1); },
    pull: (taken, event, bench) => pairEdit(taken, bench.panels.frequencyAt(event), gainAt(event, bench)),
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      taken.share ??= taken.end === "dip" ? taken.lift / (taken.dip || 1) : taken.dip / (taken.lift || 1);
      const gain = taken.end === "dip" ? -taken.dip : taken.lift;
      return pairEdit(taken, taken.frequency * 2 ** ((up * (large ? 4 : 1)) / 24), gain + right * (large ? 3 : 0.5));
    },
    remove: (taken) => () => ({ op: "remove", path: taken.path }),
  },
  duck: {
    take: ({ dataset }) => ({
      path: dataset.path, part: dataset.part, hit: Number(dataset.start), hold: Number(dataset.hold), release: Number(dataset.release),
      depth: Number(dataset.db), lengths: dataset.lengths, beatMs: Number(dataset.beatMs), span: Number(dataset.span),
      top: Number(dataset.top), bottom: Number(dataset.bottom),
    }),
    pull: (taken, event, bench) => {
      const after = Math.max(0, bench.panels.beatAt(event) - taken.hit);
      if (taken.part === "release") return duckEdit(taken, { release: after - taken.hold });
      return duckEdit(taken, { hold: after, depth: depthAt(event, taken, bench) });
    },
    step: (taken, key, large) => {
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      const down = { ArrowDown: 1, ArrowUp: -1 }[key] ?? 0;
      if (!right && !(down && taken.part === "hold")) return null;
      const by = right * (large ? 1 / 8 : 1 / 64);
      if (taken.part === "release") return duckEdit(taken, { release: taken.release + by });
      return duckEdit(taken, { hold: taken.hold + by, depth: taken.depth + down * (large ? 3 : 0.5) });
    },
  },
  course: {
    take: takeCourse,
    pull: (taken, event, bench) => {
      const at = (bench.panels.beatAt(event) - taken.start) / taken.length;
      return courseEdit(taken, { at: event.shiftKey ? at : nearGrid(at, taken.length), value: laneShare(event, taken, bench) });
    },
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      return courseEdit(taken, { at: taken.at + right * (large ? 1 / 8 : 1 / 64), value: taken.value + up * (large ? 0.1 : 0.02) });
    },
    remove: (taken) => () => ({ op: "course-point", movement: taken.movement, place: taken.place, gone: true }),
  },
  bend: {
    take: takeCourse,
    pull: (taken, event, bench) => {
      const through = laneShare(event, taken, bench);
      return () => ({ op: "course-point", movement: taken.movement, place: taken.place, through });
    },
    step: () => null,
  },
  steps: {
    take: (part) => ({ lane: { ...part.closest("[data-lane]").dataset }, drawn: {}, last: null, value: Number(part.dataset.value), place: Number(part.dataset.place) }),
    begin: (taken, event, bench) => sweep(taken, event, bench),
    pull: (taken, event, bench) => {
      sweep(taken, event, bench);
      const values = { ...taken.drawn };
      return () => (Object.keys(values).length ? { op: "draw-steps", movement: taken.lane.lane, values } : null);
    },
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      if (!up) return null;
      taken.value = within(taken.value + up * (large ? 0.1 : 0.02), 0, 1);
      const { value } = taken;
      return () => ({ op: "draw-steps", movement: taken.lane.lane, values: { [taken.place]: value } });
    },
  },
  harmonic: {
    take: (part) => ({
      path: part.dataset.path, number: Number(part.dataset.number), amplitude: Number(part.dataset.amplitude),
    }),
    pull: (taken, event, bench) => harmonicEdit(taken, amplitudeAt(event, bench)),
    step: (taken, key, large) => {
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!right) return null;
      taken.amplitude = Math.max(taken.amplitude, 0.001) * 10 ** ((right * (large ? 6 : 1)) / 20);
      return harmonicEdit(taken, taken.amplitude);
    },
    remove: (taken) => () => ({ op: "harmonic", path: taken.path, number: taken.number, amplitude: null }),
  },
  "curve-point": {
    take: ({ dataset }) => ({ path: dataset.path, odd: Boolean(dataset.odd), input: Number(dataset.input), output: Number(dataset.output) }),
    pull: (taken, event, bench) => curveEdit(taken, ...inOutAt(event, bench)),
    step: (taken, key, large) => {
      const up = { ArrowUp: 1, ArrowDown: -1 }[key] ?? 0;
      const right = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!up && !right) return null;
      const by = large ? 0.1 : 0.01;
      return curveEdit(taken, taken.input + up * by, taken.output + right * by);
    },
    remove: (taken) => () => ({ op: "remove", path: taken.path }),
  },
  ...SOURCE_KINDS,
  ...SECTION_KINDS,
};

function pointEdit(taken, frequency, gain) {
  Object.assign(taken, { frequency, gain });
  const edits = pulled(taken.path, { frequency_hz: frequency, ...(taken.hasGain && { gain_db: gain }) });
  return () => ({ op: "several", name: "Pull an EQ point", edits });
}

/** A point of a drawn curve; where both halves are alike, that of the upper half. */
function curveEdit(taken, input, output) {
  [taken.input, taken.output] = taken.odd && input < 0 ? [-input, -output] : [input, output];
  const edits = pulled(taken.path, { input: taken.input, output: taken.output });
  return () => ({ op: "several", name: "Pull a curve", edits });
}

/** What goes into a drawn curve at a pointer, and what comes out: in from the bottom up, out from left to right. */
function inOutAt(event, bench) {
  const box = bench.panels.svg.profile.getBoundingClientRect();
  const { share, in: into, out } = bench.panels.svg.profile.querySelector("[data-curve]").dataset;
  const input = (0.5 - (event.clientY - box.top) / box.height) / share;
  const output = ((event.clientX - box.left) / box.width - 0.5) / share;
  return [input * into, output / out];
}

/** Both ends of a carve pair: the one that is pulled, and the other in its old proportion. */
function pairEdit(taken, frequency, gain) {
  taken.frequency = frequency;
  const own = Math.max(0, taken.end === "dip" ? -gain : gain); // what is pulled over to the other side is nothing
  const other = own * taken.share;
  [taken.dip, taken.lift] = taken.end === "dip" ? [own, other] : [other, own];
  const values = { frequency_hz: taken.frequency, dip_db: taken.dip, lift_db: taken.lift };
  return () => ({ op: "several", name: "Pull a carve pair", edits: pulled(taken.path, values) });
}

/** Lengths of a drawn duck, in the unit that it is kept in. */
function duckEdit(taken, change) {
  Object.assign(taken, change);
  const [unit, scale] = taken.lengths === "ms" ? ["ms", taken.beatMs] : ["beats", 1];
  const values = { depth_db: taken.depth, [`hold_${unit}`]: taken.hold * scale, [`release_${unit}`]: taken.release * scale };
  return () => ({ op: "several", name: "Pull a duck", edits: pulled(taken.path, values) });
}

function takeCourse({ dataset }) {
  const number = (name) => Number(dataset[name]);
  return {
    movement: dataset.movement, place: number("place"), at: number("at"), value: number("value"),
    start: number("start"), length: number("length"), top: number("top"), bottom: number("bottom"),
  };
}

function courseEdit(taken, change) {
  Object.assign(taken, change);
  const { movement, place, at, value } = taken;
  return () => ({ op: "course-point", movement, place, at, value });
}

/** A place in a course, drawn to the nearest eighth of it where that is near. */
function nearGrid(at, length) {
  const grid = Math.round(at * 8) / 8;
  return Math.abs(at - grid) * length < NEAR_BEATS * Math.min(1, length) ? grid : at;
}

/** How high a pointer is in a lane: 0 at its bottom, 1 at its top. */
function laneShare(event, { top, bottom }, bench) {
  const box = bench.panels.svg.strip.getBoundingClientRect();
  return (Number(bottom) - (event.clientY - box.top)) / (bottom - top);
}

/** Sets the step under a pointer, and those that it has passed over since. */
function sweep(taken, event, bench) {
  const beat = bench.panels.beatAt(event);
  const value = laneShare(event, taken.lane, bench);
  const count = Number(taken.lane.count);
  const round = taken.lane.rounds.split(" ").map((each) => each.split(",").map(Number)).find(([start, , end]) => beat >= start && beat < end);
  if (!round) return;
  const place = within(Math.floor(((beat - round[0]) / round[1]) * count), 0, count - 1);
  const from = taken.last?.round === round[0] ? taken.last : { place, value };
  const step = Math.sign(place - from.place) || 1;
  for (let each = from.place; each !== place + step; each += step) {
    const share = place === from.place ? 1 : (each - from.place) / (place - from.place);
    taken.drawn[each] = from.value + share * (value - from.value);
  }
  taken.last = { place, value, round: round[0] };
}

function depthAt(event, taken, bench) {
  const box = bench.panels.svg.strip.getBoundingClientRect();
  return ((event.clientY - box.top - taken.top) / (taken.bottom - taken.top)) * taken.span;
}

function noteEdit(taken, change) {
  taken.to = { ...taken.from, ...taken.note, ...taken.to, ...change }; // where it is to be, sent or not
  const now = taken.to;
  return () => {
    if (Object.keys(now).every((name) => now[name] === taken.note[name])) return null;
    const edit = { op: "note", was: taken.note, now, layer: taken.layer };
    taken.note = now;
    return edit;
  };
}

/** Up to which bar the notes run before they begin again; at the end of the piece they do not. */
function patternEdit(bars, bench) {
  const whole = Math.max(1, Math.round(bars));
  return () => ({ op: "set", path: "pattern_bars", value: whole >= bench.info.beats / bench.info.beatsPerBar ? 0 : whole });
}

function otherHits(part) {
  const drum = CSS.escape(part.dataset.drum);
  const all = [...document.querySelectorAll(`[data-drag=hit][data-drum="${drum}"]`)].map((each) => Number(each.dataset.hit));
  return all.filter((each) => each !== Number(part.dataset.hit));
}

function hitEdit(taken, beat, bench) {
  taken.to = within(beat, 0, bench.info.beats - SHORTEST_NOTE);
  const now = taken.to;
  return () => {
    if (now === taken.hit || taken.others.includes(now)) return null; // two at one place would be one: it goes past
    const edit = { op: "hit", trigger: taken.drum, was: taken.hit, now };
    taken.hit = now;
    return edit;
  };
}

function harmonicEdit(taken, amplitude) {
  return () => ({ op: "harmonic", path: taken.path, number: taken.number, amplitude });
}

function gainAt(event, bench) {
  const box = bench.panels.svg.profile.getBoundingClientRect();
  const group = bench.panels.svg.profile.querySelector("[data-eq]");
  const off = (event.clientX - box.left) / box.width - 0.5;
  return (off / Number(group.dataset.gainShare)) * Number(group.dataset.gainSpan);
}

function amplitudeAt(event, bench) {
  const box = bench.panels.svg.profile.getBoundingClientRect();
  const group = bench.panels.svg.profile.querySelector("[data-low-db]");
  const [low, high] = [Number(group.dataset.lowDb), Number(group.dataset.highDb)];
  const share = (event.clientX - box.left) / box.width;
  return share <= 0.01 ? 0 : 10 ** ((low + share * (high - low)) / 20);
}

function pitchAt(event, bench) {
  return within(Math.round(69 + 12 * Math.log2(bench.panels.frequencyAt(event) / 440)), ...bench.pitches);
}

export function listenToHandles(bench) {
  let drag = null;

  for (const svg of Object.values(bench.panels.svg)) {
    svg.addEventListener("pointerdown", (event) => {
      if (event.button !== 0) return;
      const part = event.target.closest("[data-drag]");
      if (!part) {
        const cut = event.target.closest("[data-cut]");
        if (cut) {
          const frequency = bench.panels.frequencyAt(event);
          bench.edit(() => ({ op: "split-layer", layer: cut.dataset.cut, frequency_hz: frequency }));
          return;
        }
        const selected = event.target.closest("[data-select]");
        if (selected) bench.select(selected.dataset.select);
        else if (event.pointerType === "touch") return; // a finger may be about to swipe: gestures.js
        else if (svg.id === "strip" || svg.id === "passage") bench.seek(bench.panels.beatAt(event));
        return;
      }
      event.preventDefault();
      const kind = KINDS[part.dataset.drag];
      const taken = kind.take(part, event.target);
      kind.begin?.(taken, event, bench);
      drag = { kind, taken, gesture: newGesture(), x: event.clientX, y: event.clientY, moved: false };
      if (part.dataset.drag === "steps") { // a press alone sets a step
        drag.moved = true;
        bench.edit(kind.pull(taken, event, bench), drag.gesture);
      }
      svg.setPointerCapture(event.pointerId);
      if (part.dataset.key) bench.choose(part.dataset.key, { pressed: true });
      (part.matches("[tabindex]") ? part : null)?.focus({ preventScroll: true });
    });

    svg.addEventListener("pointermove", (event) => {
      if (!drag) return;
      if (!drag.moved && Math.hypot(event.clientX - drag.x, event.clientY - drag.y) < 3) return;
      drag.moved = true;
      bench.edit(drag.kind.pull(drag.taken, event, bench), drag.gesture);
    });

    const end = (event) => {
      if (!drag) return;
      const { moved, kind, taken, gesture } = drag;
      drag = null;
      if (moved && kind.drop) kind.drop(taken, event, bench);
      else if (moved) bench.edit(kind.pull(taken, event, bench), gesture, { final: true });
      else kind.press?.(taken, bench);
    };
    svg.addEventListener("pointerup", end);
    svg.addEventListener("pointercancel", () => { drag = null; });

    svg.addEventListener("dblclick", (event) => {
      const part = event.target.closest("[data-drag]");
      if (part?.dataset.drag === "harmonic") {
        bench.edit(KINDS.harmonic.remove(KINDS.harmonic.take(part)));
      } else if (!part || part.dataset.drag === "crossover") {
        const edit = added(svg.id, event, bench);
        if (edit) bench.edit(() => edit);
      }
    });
  }

  let keys = { kind: "", key: "", at: 0, gesture: "", taken: null };
  const alone = () => { keys.at = 0; };
  document.addEventListener("pointerdown", alone, true);
  document.addEventListener("keydown", (event) => {
    const part = document.activeElement?.closest?.("[data-drag][tabindex]");
    if (event.ctrlKey || event.metaKey || event.altKey) alone(); // undone, perhaps
    if (!part || event.ctrlKey || event.metaKey || event.altKey) return;
    const kind = KINDS[part.dataset.drag];
    const { drag: held, key } = part.dataset;
    const same = keys.kind === held && [keys.key, bench.item].includes(key); // what is called by where it is has another key
    const going = keys.at && same && (bench.edits.busy || performance.now() - keys.at < KEYS_TOGETHER_MS);
    const taken = going ? keys.taken : kind.take(part);
    if (event.key === "Delete" || event.key === "Backspace") {
      if (kind.remove) {
        event.preventDefault();
        bench.edit(kind.remove(taken));
      }
      return;
    }
    const make = kind.step(taken, event.key, event.shiftKey, bench);
    if (!make) return;
    event.preventDefault();
    keys = { kind: held, key, at: performance.now(), gesture: going ? keys.gesture : newGesture(), taken };
    bench.choose(key);
    bench.edit(make, keys.gesture, { final: true });
  });
}

/** What a double-click on an empty place adds. */
function added(panel, event, bench) {
  const beat = Math.max(0, Math.floor(bench.panels.beatAt(event) / SNAP_BEATS) * SNAP_BEATS);
  const lane = panel === "strip" ? event.target.closest("[data-lane]") : null;
  if (lane?.dataset.kind === "drawn") {
    const round = lane.dataset.rounds.split(" ").map((each) => each.split(",").map(Number));
    const at = bench.panels.beatAt(event);
    const [start, length] = round.find(([from, , end]) => at >= from && at < end) ?? round[0];
    return { op: "course-point", movement: lane.dataset.lane, at: (at - start) / length, value: laneShare(event, lane.dataset, bench) };
  }
  if (lane) return null;
  if (panel === "strip") return { op: "hit", trigger: bench.drum(), was: null, now: snapped(bench.panels.beatAt(event), event.shiftKey) };
  if (panel === "passage") {
    const now = { start_beats: beat, length_beats: 2 * SNAP_BEATS, pitch: pitchAt(event, bench), velocity: 100, slide: false };
    return { op: "note", was: null, now, layer: bench.panels.svg.passage.querySelector("[data-notes-of]")?.dataset.notesOf ?? null };
  }
  if (panel === "pile") return { op: "add-crossover", frequency_hz: bench.panels.frequencyAt(event) };
  const list = panel === "profile" && bench.panels.svg.profile.querySelector("[data-curve]")?.dataset.list;
  if (list) {
    const [input, output] = inOutAt(event, bench);
    return { op: "add", path: list, part: { input, output }, held: true };
  }
  const eq = panel === "profile" && bench.panels.svg.profile.querySelector("[data-eq]");
  if (!eq) return null;
  const point = { kind: "bell", frequency_hz: bench.panels.frequencyAt(event), gain_db: gainAt(event, bench) };
  return { op: "add-point", to: eq.dataset.eq, point, held: true };
}
