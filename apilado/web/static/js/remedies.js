// Remedies: each finding's is tried while nothing else is wanted, one at a time; and the plan that mends all.

import { get, post, tell } from "./api.js";
import { handsOff, openDialog } from "./redraw.js";

const OVERTAKEN = 204;
const AGAIN_MS = 1500;
const UNTRIED = '<p class="section-note">Its remedy has not been tried yet.</p>';

export class Remedies {
  constructor(bench) {
    this.bench = bench;
    this.asking = null; // what is under way, to be dropped by an edit
    this.again = null;
    this.planning = false;
    // A hand that comes down may be about to edit: what it does is heard sooner if nothing is tried meanwhile.
    for (const name of ["pointerdown", "keydown"]) document.addEventListener(name, () => this.pause(), true);
  }

  /** Leaves off trying, and goes on a while later if no edit has come. */
  pause() {
    if (!this.asking || this.planning) return;
    this.drop();
    post(`${this.bench.url}/pause`, { client: this.bench.client }).catch(() => {});
    this.later();
  }

  later() {
    const revision = this.bench.revision;
    clearTimeout(this.again);
    this.again = setTimeout(() => { if (!this.asking && this.bench.revision === revision) this.tryAll(); }, AGAIN_MS);
  }

  /** Drops what is under way: the stack is another one now. */
  drop() {
    this.asking?.abort();
    this.asking = null;
  }

  /** Tries the remedies of the findings that are shown, the worst first. */
  async tryAll() {
    if (this.planning) return; // the plan is asked for: what it finds is more
    this.drop();
    const asking = (this.asking = new AbortController());
    const revision = this.bench.revision;
    for (const finding of document.querySelectorAll("#soundings [data-remedy]")) {
      await this.bench.player.idle; // the ear comes first
      if (asking.signal.aborted || !finding.isConnected) return;
      if (finding.dataset.tried === String(revision)) continue;
      finding.innerHTML = '<p class="waiting">Its remedy is being tried …</p>';
      try {
        const asked = { client: this.bench.client, finding: JSON.parse(finding.dataset.remedy) };
        const answer = await post(`${this.bench.url}/remedy`, asked, asking.signal);
        if (answer.revision !== revision) return;
        await handsOff("soundings");
        finding.innerHTML = answer.remedy;
        finding.dataset.tried = revision;
      } catch (error) {
        if (error.name === "AbortError") {
          finding.innerHTML = UNTRIED;
          return;
        }
        if (error.status === OVERTAKEN) { // by an edit: if that was refused, the findings are still these
          if (this.asking === asking) this.asking = null;
          this.later();
          return;
        }
        finding.innerHTML = "";
        const note = document.createElement("p");
        note.className = "section-note";
        note.textContent = error.message;
        finding.append(note);
      }
    }
    if (this.asking === asking) this.asking = null;
  }

  /** Shows the plan that mends all, each remedy as it is found. */
  async mendAll() {
    this.drop();
    this.planning = true;
    const asking = (this.asking = new AbortController());
    openDialog('<h2 id="dialog-title">Mend all</h2><p class="waiting" role="status">Trying remedies, one after the other …</p><ol class="mending-steps"></ol><div class="button-row"><button type="button" class="btn" data-close>Stop</button></div>');
    const dialog = document.getElementById("dialog");
    dialog.addEventListener("close", () => asking.abort(), { once: true, signal: asking.signal });
    try {
      const response = await get(`${this.bench.url}/mending?${new URLSearchParams({ client: this.bench.client })}`, asking.signal);
      for await (const line of linesOf(response.body)) this.show(JSON.parse(line));
    } catch (error) {
      if (error.name !== "AbortError") tell(error.message, { fault: true });
      else if (dialog.open) this.show({ overtaken: true });
    }
    this.planning = false;
    if (this.asking === asking) this.asking = null;
    if (!asking.signal.aborted) dialog.addEventListener("close", () => this.tryAll(), { once: true });
    else this.tryAll();
  }

  show({ step, sentence, plan, error, overtaken }) {
    const body = document.getElementById("dialog-body");
    if (step) {
      const item = document.createElement("li");
      const name = document.createElement("strong");
      name.textContent = `${step}. `;
      item.append(name, `${sentence}.`);
      body.querySelector(".mending-steps").append(item);
    }
    if (plan) body.innerHTML = plan;
    const waiting = body.querySelector(".waiting");
    if ((error || overtaken) && waiting) waiting.textContent = error ?? "The stack was changed meanwhile.";
  }
}

async function* linesOf(stream) {
  const reader = stream.pipeThrough(new TextDecoderStream()).getReader();
  let kept = "";
  for (let part = await reader.read(); !part.done; part = await reader.read()) {
    const lines = (kept + part.value).split("\n");
    kept = lines.pop();
    yield* lines;
  }
}
