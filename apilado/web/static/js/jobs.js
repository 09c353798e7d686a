// Jobs of a bench: begun, told how far they are, stopped; what the program did not live to finish is offered again.

import { get, post, tell } from "./api.js";
import { View } from "./views.js";
import { QuarryList, SOUND_TYPE } from "./quarry.js";
import { openDialog } from "./redraw.js";

const ASKED_MS = 250;

function button(text, press) {
  const made = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-small", textContent: text });
  made.addEventListener("click", press);
  return made;
}

export class Jobs {
  constructor(bench) {
    this.bench = bench;
    document.addEventListener("submit", (event) => {
      if (!event.target.matches("[data-bounce]")) return;
      event.preventDefault();
      this.bounce(new FormData(event.target));
    });
    document.addEventListener("click", ({ target }) => {
      const pressed = target.closest("[data-job]");
      if (pressed) this.begin(pressed.dataset.job, JSON.parse(pressed.dataset.wanted ?? "{}"));
      if (target.closest("[data-bounce-of]")) this.ask(target.closest("[data-bounce-of]").dataset.bounceOf);
      if (target.closest("[data-keep]")) this.keep(target.closest("[data-keep]").dataset);
    });
  }

  /** Keeps a part of the stack in the Quarry. */
  async keep({ keep, within }) {
    try {
      await this.bench.settled();
      tell((await post(`${this.bench.url}/keep-part`, { kind: keep, address: within })).told);
      this.bench.quarry.refresh();
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  /** The choices of a bounce, of a layer or the whole; of the bars that are chosen. */
  async ask(layer) {
    const [first, behind] = this.bench.sections.bars?.map((beat) => beat / this.bench.info.beatsPerBar) ?? [0, 0];
    const query = new URLSearchParams({ layer, first_bar: behind ? first + 1 : 0, last_bar: behind });
    openDialog(await (await get(`${this.bench.url}/bounce?${query}`)).text());
  }

  bounce(form) {
    const of = form.get("of");
    const bounced = {
      what: of.startsWith("layer") ? "layers" : of,
      layers: of.startsWith("layer:") ? [of.slice(6)] : [],
      duck: form.get("duck"),
      extent: form.get("extent"),
      first_bar: Number(form.get("first_bar")) || 0,
      last_bar: Number(form.get("last_bar")) || 0,
    };
    document.getElementById("dialog").close();
    return this.begin("bounce", { bounced, name: form.get("name"), then: form.get("then") });
  }

  async begin(kind, wanted) {
    try {
      await this.bench.settled();
      await this.follow(await post(`${this.bench.url}/jobs`, { kind, wanted }));
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  /** Tells how far a job is until it has ended. */
  async follow(job) {
    let now = job;
    let shown = null;
    while (now.state === "running") {
      const said = `${now.title}: ${now.doing.toLowerCase()}, ${Math.round(100 * now.share)} % `;
      const note = document.querySelector("#notices .notice");
      if (!shown?.isConnected || note !== shown) {
        tell("", { stays: true });
        shown = document.querySelector("#notices .notice");
        shown.append(document.createElement("span"), button("Stop", () => post(`/jobs/${job.id}/stop`, {})));
      }
      shown.firstElementChild.textContent = said;
      await new Promise((resolve) => { setTimeout(resolve, ASKED_MS); });
      now = await (await get(`/jobs/${job.id}`)).json();
    }
    tell(now.said, { fault: now.state === "failed" });
    if (now.made.layer) this.bench.remember(`layer:${now.made.layer}`);
    if (now.state === "done") await this.bench.step("plan");
    this.bench.quarry.refresh();
  }

  /** At the start: what is under way is followed, what was broken off is told. */
  async begun() {
    const { jobs } = await (await get(`${this.bench.url}/jobs`)).json();
    const running = jobs.find((job) => job.state === "running");
    if (running) return this.follow(running);
    const [broken] = jobs.filter((job) => job.state === "broken off");
    if (!broken) return null;
    tell(`${broken.title}: ${broken.said} `, { stays: true, fault: true });
    const again = async () => {
      try {
        await this.follow(await post(`/jobs/${broken.id}/again`, {}));
      } catch (error) {
        tell(error.message, { fault: true });
      }
    };
    const remove = async () => {
      await post(`/jobs/${broken.id}/remove`, {});
      tell("Removed.");
    };
    document.querySelector("#notices .notice")?.append(button("Begin it again", again), " ", button("Remove it", remove));
    return null;
  }
}

/** The Quarry as a drawer of the bench. */
export class Quarry extends View {
  constructor(bench) {
    super(bench, "quarry", "Looking through the Quarry …", {});
    this.list = new QuarryList(this.place, {
      stack: Number(bench.url.split("/").at(-1)),
      holds: (button, inPlace) => {
        const { alone, backing, ...heard } = bench.listening.meant(button);
        bench.listening.hold({ button, key: " " }, inPlace ? heard : { ...heard, alone, backing });
      },
      putIn: (sound, how) => this.putIn(sound, how),
      putPart: (part) => this.putPart(part),
    });
    this.listenToDrops();
  }

  /** A sound that is dragged out of the list goes into the stack, laid as it is. */
  listenToDrops() {
    document.addEventListener("dragover", (event) => {
      if (event.dataTransfer.types.includes(SOUND_TYPE) && !this.place.contains(event.target)) event.preventDefault();
    });
    document.addEventListener("drop", (event) => {
      const sound = event.dataTransfer.getData(SOUND_TYPE);
      if (!sound || this.place.contains(event.target)) return;
      event.preventDefault();
      this.putIn(Number(sound), "laid").catch((error) => tell(error.message, { fault: true }));
    });
  }

  async draw() {
    if (this.place.querySelector(".quarry")) await this.list.refresh();
    else await super.draw();
    this.list.mark();
    this.list.waitForMeasured();
  }

  /** Puts a kept part into what is chosen. */
  async putPart(part) {
    await this.bench.settled();
    const [kind, id] = this.bench.selected.split(":");
    const to = kind === "layer" ? `layers/${id}` : ["bus", "space", "shared"].includes(kind) ? kind : "";
    const { told, select } = await post(`${this.bench.url}/put-part`, { part, to, client: this.bench.client });
    if (select) this.bench.remember(select);
    await this.bench.step("plan");
    if (this.open) this.toggle();
    tell(told);
  }

  async putIn(sound, how) {
    await this.bench.settled();
    const form = new FormData();
    form.append("sound", sound);
    form.append("how", how);
    await this.bench.files.done("put-in", form);
    if (this.open) this.toggle();
  }
}
