// Views opened over the drawings, brought up to date when the measurements are in: Plumb, the room map.

import { get, tell } from "./api.js";
import { Newest } from "./newest.js";

const AGAIN_MS = 120;

export class View {
  /**
   * @param name its place is `#NAME-view`, its button `#NAME-open` if it has one, its address `NAME`.
   * @param options what it asks for besides, as a query; a button in it may change one.
   */
  constructor(bench, name, waiting, options) {
    this.bench = bench;
    this.name = name;
    this.waiting = waiting;
    this.options = options;
    this.place = document.getElementById(`${name}-view`);
    this.button = document.getElementById(`${name}-open`);
    this.newest = new Newest(() => this.draw(), (error) => this.failed(error));
  }

  get open() {
    return !this.place.hidden;
  }

  toggle() {
    this.place.hidden = this.open;
    this.button?.setAttribute("aria-pressed", this.open);
    if (!this.open) return;
    this.bench.views.filter((view) => view !== this && view.open).forEach((view) => view.toggle());
    this.place.innerHTML = `<p class="waiting">${this.waiting}</p>`;
    this.refresh();
  }

  ask(options) {
    Object.assign(this.options, options);
    this.refresh();
  }

  refresh() {
    return this.open ? this.newest.ask() : null;
  }

  async draw() {
    if (!this.open) return;
    this.place.setAttribute("aria-busy", true);
    const query = new URLSearchParams({ ...this.options, client: this.bench.client });
    const html = await (await get(`${this.bench.url}/${this.name}?${query}`)).text();
    const scroll = this.place.scrollTop;
    this.place.innerHTML = html;
    this.place.scrollTop = scroll;
    this.place.setAttribute("aria-busy", this.newest.again);
    this.bench.listening.show();
  }

  failed(error) {
    if (error.status === 204) setTimeout(() => this.refresh(), AGAIN_MS); // a newer edit: ask once more
    else {
      this.place.setAttribute("aria-busy", false);
      tell(error.message, { fault: true });
    }
  }
}
