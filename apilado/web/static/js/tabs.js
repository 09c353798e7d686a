// Other tabs, and a server that goes and comes: what they change is shown here too.

import { get, tell } from "./api.js";

const POLL_MS = 2500;

/** Who this tab is, over a reload too: what it did is told apart from what others did. */
export function clientOfTab() {
  const kept = sessionStorage.getItem("client") ?? Math.random().toString(36).slice(2);
  sessionStorage.setItem("client", kept);
  return kept;
}

export class Tabs {
  constructor(bench) {
    this.bench = bench;
  }

  async poll() {
    if (document.visibilityState === "visible" && !this.bench.edits.busy) {
      try {
        const { revision } = await (await get(`${this.bench.url}/revision`)).json();
        if (this.bench.away) {
          await this.bench.step("plan");
          this.bench.refreshControls(); // a field may still show what was never kept
          tell(this.bench.lost ? "Connected again. Not saved: your last change. The page shows what is stored." : "Connected again.");
          this.bench.away = this.bench.lost = false;
        } else if (revision !== this.bench.revision && !this.bench.edits.busy) {
          await this.bench.step("plan");
          tell("This stack was changed in another tab; this page shows it as it is now.");
        }
      } catch (error) {
        if (!this.bench.away) tell(error.message, { fault: true });
        this.bench.away = true;
      }
    }
    setTimeout(() => this.poll(), POLL_MS);
  }
}
