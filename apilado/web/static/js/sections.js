// Sections: which one is chosen, so that changes go into it, and which bars alone are heard.

export class Sections {
  constructor(bench) {
    this.bench = bench;
    this.chosen = ""; // the id of the one that changes are made in; not remembered: a page begins with the whole piece
    this.heard = null; // [first beat, beat behind the last] of the bars that alone are heard
    document.getElementById("in-section").addEventListener("click", (event) => {
      const pressed = event.target.closest("button");
      if (pressed?.id === "whole-piece") this.choose("");
      else if (pressed) this.hear(this.heard ? null : this.bars);
    });
    document.getElementById("section-add").addEventListener("click", () => this.add());
    document.addEventListener("keydown", (event) => {
      const within = event.target.closest?.("dialog, input:not([type=range], [type=checkbox]), select, textarea");
      if (event.key !== "Escape" || within || document.querySelector("dialog[open]")) return;
      if (this.chosen) this.choose("");
      else this.hear(null);
    });
  }

  view() {
    return { section: this.chosen, heard_from: this.heard?.[0] ?? null, heard_to: this.heard?.[1] ?? null };
  }

  choose(id) {
    if (id === this.chosen) return;
    this.chosen = id;
    if (id) this.bench.select(`section:${id}`);
    this.bench.step("plan");
    this.bench.refreshControls(true);
  }

  /** A section at the bar where the playhead is, or at the first one behind it that has none. */
  add() {
    const { info, player } = this.bench;
    const bars = Math.round(info.beats / info.beatsPerBar);
    const taken = [...document.querySelectorAll("#passage [data-section-id][data-last]")].map(({ dataset }) => [Number(dataset.first), Number(dataset.last)]);
    const here = Math.floor((player.share() * info.beats) / info.beatsPerBar);
    const free = Array.from({ length: bars }, (_, n) => 1 + ((here + n) % bars)).find((bar) => taken.every(([first, last]) => bar < first || bar > last));
    this.make(free ?? 1, free ?? 1);
  }

  make(first, last) {
    this.bench.edit(() => ({ op: "section", first_bar: first, last_bar: last }));
  }

  /** Only some bars are heard, again and again; null: the whole piece. */
  hear(beats) {
    this.heard = beats;
    this.bench.player.narrow(beats && beats.map((beat) => beat / this.bench.info.beats));
    this.bench.step("plan");
    this.tell();
  }

  /** What the server says of the chosen section: its name and its bars; nothing where it has gone. */
  told(section) {
    this.said = section;
    if (this.chosen && !section) {
      this.chosen = "";
      this.bench.refreshControls(true);
    }
    this.tell();
  }

  get bars() {
    const mark = document.querySelector(`#passage .section-mark[data-section-id="${CSS.escape(this.chosen)}"]`);
    const { beatsPerBar } = this.bench.info;
    return mark ? [(Number(mark.dataset.first) - 1) * beatsPerBar, Number(mark.dataset.last) * beatsPerBar] : null;
  }

  tell() {
    const band = document.getElementById("in-section");
    band.hidden = !this.chosen && !this.heard;
    band.classList.toggle("is-chosen", Boolean(this.chosen));
    const [first, last] = this.heard?.map((beat) => beat / this.bench.info.beatsPerBar) ?? [];
    const hearing = this.heard && `Heard: only ${last - first > 1 ? `bars ${first + 1} to ${last}` : `bar ${first + 1}`}.`;
    const changing = this.chosen && this.said && `Changes are made in ‘${this.said.name}’, ${this.said.bars}, alone.`;
    band.querySelector("p").textContent = [changing, hearing].filter(Boolean).join(" ");
    band.querySelector("#whole-piece").hidden = !this.chosen;
    const hear = band.querySelector("#hear-bars");
    hear.textContent = this.heard ? "Hear the whole piece" : "Hear only these bars";
    hear.setAttribute("aria-pressed", Boolean(this.heard));
  }
}

/** What a pointer or an arrow key does to a section on its strip. */
export const SECTION_KINDS = {
  section: {
    take: (part, target) => ({
      id: part.dataset.sectionId, first: Number(part.dataset.first), last: Number(part.dataset.last), part: target?.dataset?.part ?? part.dataset.part,
    }),
    begin: (taken, event, bench) => {
      taken.grabbed = barAt(event, bench) - taken.first;
      taken.from = { first: taken.first, last: taken.last };
    },
    press: (taken, bench) => bench.sections.choose(taken.id),
    pull: (taken, event, bench) => {
      const line = Math.round(bench.panels.beatAt(event) / bench.info.beatsPerBar); // an end goes to the nearest bar line
      if (taken.part === "first") return pulledTo(taken, Math.min(line + 1, taken.from.last), taken.from.last);
      if (taken.part === "last") return pulledTo(taken, taken.from.first, Math.max(line, taken.from.first));
      const by = barAt(event, bench) - taken.grabbed - taken.from.first;
      return pulledTo(taken, taken.from.first + by, taken.from.last + by);
    },
    step: (taken, key, large, bench) => {
      if (key === "Enter" || key === " ") {
        bench.sections.choose(taken.id);
        return () => null;
      }
      const by = { ArrowRight: 1, ArrowLeft: -1 }[key] ?? 0;
      if (!by) return null;
      return large ? pulledTo(taken, taken.first, Math.max(taken.first, taken.last + by)) : pulledTo(taken, taken.first + by, taken.last + by);
    },
    remove: (taken) => () => ({ op: "remove", path: `sections/${taken.id}` }),
  },
  bars: {
    take: () => ({}),
    begin: (taken, event, bench) => {
      taken.from = taken.to = barAt(event, bench);
      taken.hear = event.shiftKey;
    },
    pull: (taken, event, bench) => {
      taken.to = barAt(event, bench);
      mark(bench, Math.min(taken.from, taken.to), Math.max(taken.from, taken.to));
      return () => null;
    },
    press: (taken, bench) => (taken.hear ? heard(taken, bench) : bench.seek((taken.from - 1) * bench.info.beatsPerBar)),
    drop: (taken, event, bench) => {
      mark(bench);
      if (taken.hear) heard(taken, bench);
      else bench.sections.make(taken.from, taken.to);
    },
    step: () => null,
  },
};

function heard({ from, to }, bench) {
  const { beatsPerBar } = bench.info;
  bench.sections.hear([(Math.min(from, to) - 1) * beatsPerBar, Math.max(from, to) * beatsPerBar]);
}

function barAt(event, bench) {
  const bars = Math.round(bench.info.beats / bench.info.beatsPerBar);
  return Math.min(bars, Math.max(1, Math.floor(bench.panels.beatAt(event) / bench.info.beatsPerBar) + 1));
}

function pulledTo(taken, first, last) {
  return () => {
    if (first === taken.first && last === taken.last) return null;
    Object.assign(taken, { first, last });
    return { op: "section", section: taken.id, first_bar: first, last_bar: last };
  };
}

/** Draws the bars that a hand is passing over; none where it has let go. */
function mark(bench, first, last) {
  const overlay = bench.panels.svg.passage.querySelector(".overlay");
  overlay.querySelector(".section-new")?.remove();
  if (first === undefined) return;
  const { beatsPerBar } = bench.info;
  const [x, end] = [(first - 1) * beatsPerBar, last * beatsPerBar].map((beat) => bench.panels.x(beat));
  const box = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  for (const [name, value] of Object.entries({ class: "section-new", x, y: 0, width: end - x, height: 18 })) box.setAttribute(name, value);
  overlay.append(box);
}
