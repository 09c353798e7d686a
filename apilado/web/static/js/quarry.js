// The list of the Quarry, on its own page and in the bench's drawer: what is looked for, what is chosen, what is heard.

import { get, post, tell, untell } from "./api.js";

const TYPING_MS = 150;
const MEASURED_AGAIN_MS = 1200;
export const SOUND_TYPE = "application/x-apilado-sound";

export class QuarryList {
  /**
   * @param place holds the list.
   * @param hears what plays a sound alone: toggles, told the number and the gain.
   * @param holds what plays a sound in the loop for as long as a key is held: told the button, and whether in place.
   */
  constructor(place, { stack = 0, hears = null, holds = null, putIn = null, putPart = null } = {}) {
    Object.assign(this, { place, stack, hears, holds, putIn, putPart, chosen: 0, timer: null });
    place.addEventListener("dragstart", (event) => {
      const sound = event.target.closest?.("[data-sound]")?.dataset.sound;
      if (sound) event.dataTransfer.setData(SOUND_TYPE, sound);
    });
    place.addEventListener("input", ({ target }) => { if (target.closest("[data-filters]")) this.later(TYPING_MS); });
    place.addEventListener("submit", (event) => event.preventDefault());
    place.addEventListener("click", (event) => this.pressed(event));
    place.addEventListener("change", ({ target }) => {
      if (target.dataset.soundField) this.changed(target);
      if (target.dataset.partName) this.renamed(target);
    });
    place.addEventListener("keydown", (event) => this.keyed(event));
  }

  query(more = {}) {
    const form = this.place.querySelector("[data-filters]");
    const given = [...new FormData(form)].filter(([, value]) => value);
    return new URLSearchParams([...given, ...Object.entries({ stack: this.stack, ...more })]);
  }

  later(after) {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.refresh(), after);
  }

  get rows() {
    return [...this.place.querySelectorAll("[data-sound]")];
  }

  /** The list anew, from its start. */
  async refresh() {
    const list = this.place.querySelector("[data-rows]");
    if (!list) return;
    const asked = (this.asked = (this.asked ?? 0) + 1);
    try {
      const parts = this.place.querySelector("[name=what]").value === "parts";
      this.place.querySelector(".quarry").classList.toggle("shows-parts", parts);
      const html = await (await get(`${parts ? "/parts" : "/quarry/list"}?${this.query()}`)).text();
      if (asked !== this.asked) return;
      const focused = document.activeElement?.closest("[data-sound]")?.dataset.sound;
      list.innerHTML = html;
      this.mark();
      if (focused) this.rows.find((row) => row.dataset.sound === focused)?.focus({ preventScroll: true });
      this.waitForMeasured();
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  /** What is being measured is shown when that is done. */
  waitForMeasured() {
    if (this.rows.some((row) => row.textContent.includes("…")) && this.place.isConnected) this.later(MEASURED_AGAIN_MS);
  }

  async more(button) {
    const html = await (await get(`/quarry/list?${this.query({ before: button.dataset.more })}`)).text();
    button.insertAdjacentHTML("beforebegin", html);
    button.remove();
  }

  mark() {
    for (const row of this.rows) {
      const chosen = Number(row.dataset.sound) === this.chosen;
      row.setAttribute("aria-current", chosen);
      row.tabIndex = chosen ? 0 : -1;
    }
    if (!this.rows.some((row) => row.tabIndex === 0) && this.rows[0]) this.rows[0].tabIndex = 0;
  }

  async choose(number, { focus = false } = {}) {
    this.chosen = number;
    this.mark();
    const row = this.rows.find((each) => Number(each.dataset.sound) === number);
    if (focus) row?.focus();
    row?.scrollIntoView({ block: "nearest" });
    try {
      const html = await (await get(`/quarry/${number}?stack=${this.stack}`)).text();
      if (this.chosen === number) this.place.querySelector("[data-chosen]").innerHTML = html;
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  async pressed(event) {
    const near = (selector) => event.target.closest(selector);
    const [more, listen, row] = [near("[data-more]"), near("[data-listen-to]"), near("[data-sound]")];
    try {
      if (more) await this.more(more);
      else if (listen) this.hear(Number(listen.dataset.listenTo));
      else if (near("[data-hear]")) return;
      else if (near("[data-put-part]")) await this.putPart(Number(near("[data-put-part]").dataset.putPart));
      else if (near("[data-remove-part]")) await this.removePart(near("[data-remove-part]").dataset.removePart);
      else if (near("[data-put-in]")) await this.putIn(this.chosen, near("[data-put-in]").dataset.putIn);
      else if (near("[data-begin-with]")) await this.begin();
      else if (near("[data-pin]")) await this.send({ pinned: near("[data-pin]").dataset.pin === "true" });
      else if (near("[data-remove-sound]")) await this.remove();
      else if (row) await this.choose(Number(row.dataset.sound), { focus: true });
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  hear(number) {
    const row = this.rows.find((each) => Number(each.dataset.sound) === number);
    this.hears?.(number, Number(row?.dataset.volume ?? 1));
  }

  keyed(event) {
    const row = event.target.closest("[data-sound]");
    if (!row || event.target.matches("input, select, button")) return;
    const rows = this.rows;
    const next = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (next) {
      const to = rows[rows.indexOf(row) + next];
      if (to) this.choose(Number(to.dataset.sound), { focus: true });
    } else if (event.key === " " && this.holds) {
      const button = row.querySelector("[data-hear]");
      if (button && !event.repeat) this.holds(button, event.shiftKey);
    } else if (event.key === " " && this.hears) this.hear(Number(row.dataset.sound));
    else if (event.key === "Enter") this.choose(Number(row.dataset.sound));
    else if (event.key === "Delete") this.choose(Number(row.dataset.sound)).then(() => this.place.querySelector("[data-remove-sound]:not(:disabled)")?.click());
    else return;
    event.preventDefault();
    event.stopPropagation();
  }

  async changed(field) {
    const { soundField } = field.dataset;
    const value = soundField === "tempo_bpm" ? Number(field.value.replace(",", ".")) || 0 : field.value;
    try {
      await this.send({ [soundField]: value });
    } catch (error) {
      tell(error.message, { fault: true });
      this.choose(this.chosen);
    }
  }

  async send(values) {
    await post(`/quarry/${this.chosen}`, values);
    await Promise.all([this.refresh(), this.choose(this.chosen)]);
  }

  async begin() {
    tell("Reading its notes …", { stays: true });
    const { url, told } = await post(`/quarry/${this.chosen}/begin`, {});
    sessionStorage.setItem("told", told);
    location.assign(url);
  }

  async remove() {
    const number = this.chosen;
    const { name } = await post(`/quarry/${number}/remove`, {});
    this.chosen = 0;
    this.place.querySelector("[data-chosen]").innerHTML = "";
    await this.refresh();
    this.offerBack(name, `/quarry/${number}/put-back`, () => this.choose(number));
  }

  /** Tells that something is removed, and offers to put it back. */
  offerBack(name, url, then = () => {}) {
    tell(`‘${name}’ is removed from the list. `, { stays: true });
    const back = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-small", textContent: "Put back" });
    back.addEventListener("click", async () => {
      await post(url, {});
      untell();
      await this.refresh();
      then();
    });
    document.querySelector("#notices .notice")?.append(back);
  }

  async removePart(number) {
    const { name } = await post(`/parts/${number}/remove`, {});
    await this.refresh();
    this.offerBack(name, `/parts/${number}/put-back`);
  }

  async renamed(field) {
    try {
      await post(`/parts/${field.dataset.partName}`, { name: field.value });
    } catch (error) {
      tell(error.message, { fault: true });
      this.refresh();
    }
  }
}
