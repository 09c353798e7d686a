// Views opened over the drawings, brought up to date when the measurements are in: Plumb, the room map.

import { get, tell } from "./api.js";

const AGAIN_MS = 120;

export class View {
  /**
   * @param name its place is `#NAME-view`, its button `#NAME-open`, its address `NAME`.
   * @param options what it asks for besides, as a query; a button in it may change one.
   */
  constructor(bench, name, waiting, options) {
    this.bench = bench;
    this.name = name;
    this.waiting = waiting;
    this.options = options;
    this.place = document.getElementById(`${name}-view`);
    this.button = document.getElementById(`${name}-open`);
    this.busy = false;
    this.again = false;
  }

  get open() {
    return !this.place.hidden;
  }

  toggle() {
    this.place.hidden = this.open;
    this.button.setAttribute("aria-pressed", this.open);
    if (!this.open) return;
    this.bench.views.filter((view) => view !== this && view.open).forEach((view) => view.toggle());
    this.place.innerHTML = `<p class="waiting">${this.waiting}</p>`;
    this.refresh();
  }

  ask(options) {
    Object.assign(this.options, options);
    this.refresh();
  }

  async refresh() {
    if (!this.open) return;
    if (this.busy) {
      this.again = true;
      return;
    }
    this.busy = true;
    this.again = false;
    this.place.setAttribute("aria-busy", true);
    try {
      const query = new URLSearchParams({ ...this.options, client: this.bench.client });
      const html = await (await get(`${this.bench.url}/${this.name}?${query}`)).text();
      const scroll = this.place.scrollTop;
      this.place.innerHTML = html;
      this.place.scrollTop = scroll;
    } catch (error) {
      if (error.status === 204) this.again = true; // a newer edit: ask once more
      else tell(error.message, { fault: true });
    }
    this.busy = false;
    this.place.setAttribute("aria-busy", this.again);
    if (this.again) setTimeout(() => this.refresh(), AGAIN_MS);
  }
}
