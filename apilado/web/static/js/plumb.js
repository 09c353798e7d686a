// The view of Plumb: opened over the drawings, brought up to date when the measurements are in.

import { get, tell } from "./api.js";

const AGAIN_MS = 120;

export class PlumbView {
  constructor(bench) {
    this.bench = bench;
    this.place = document.getElementById("plumb-view");
    this.button = document.getElementById("plumb-open");
    this.goal = "worst";
    this.busy = false;
  }

  toggle() {
    this.place.hidden = !this.place.hidden;
    this.button.setAttribute("aria-pressed", !this.place.hidden);
    if (!this.place.hidden) {
      this.place.innerHTML = '<p class="waiting">Listening to every note at every border …</p>';
      this.refresh();
    }
  }

  aim(goal) {
    this.goal = goal;
    this.refresh();
  }

  async refresh() {
    if (this.place.hidden) return;
    if (this.busy) {
      this.again = true;
      return;
    }
    this.busy = true;
    this.again = false;
    try {
      const html = await (await get(`${this.bench.url}/plumb?goal=${this.goal}&client=${this.bench.client}`)).text();
      const scroll = this.place.scrollTop;
      this.place.innerHTML = html;
      this.place.scrollTop = scroll;
    } catch (error) {
      if (error.status === 204) this.again = true; // a newer edit: ask once more
      else tell(error.message, { fault: true });
    }
    this.busy = false;
    if (this.again) setTimeout(() => this.refresh(), AGAIN_MS);
  }
}
