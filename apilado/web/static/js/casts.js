// Casts: kept states of the stack, heard against it and each other; and the blind comparison of two.

import { post, tell, untell } from "./api.js";
import { View } from "./views.js";

export class Casts extends View {
  constructor(bench) {
    super(bench, "casts", "Looking through the casts …", { opened: 0 });
    this.blind = null; // { cast, seed, answers, second } of a blind comparison
    this.place.addEventListener("click", (event) => this.pressed(event.target.closest("button")));
    this.place.addEventListener("change", ({ target }) => this.typed(target));
  }

  toggle() {
    if (this.open) this.endBlind(); // nobody could answer it any more
    super.toggle();
  }

  async draw() {
    await super.draw();
    this.showBlind();
  }

  async pressed(button) {
    if (!button) return;
    const { dataset } = button;
    const number = Number(button.closest("[data-cast]")?.dataset.cast ?? 0);
    const url = `${this.bench.url}/casts`;
    try {
      if ("castKeep" in dataset) await this.keep();
      else if ("castDiffers" in dataset) this.ask({ opened: this.options.opened === number ? 0 : number });
      else if ("castOpen" in dataset) location.href = (await post(`${url}/${number}/open`, {})).url;
      else if ("castRemove" in dataset) await this.remove(number);
      else if ("castBlind" in dataset) await this.beginBlind(number);
      else if (dataset.blindHear) this.hearBlind(dataset.blindHear);
      else if (dataset.blindAnswer) await this.answerBlind(dataset.blindAnswer === "second");
      else if ("blindEnd" in dataset) this.endBlind();
    } catch (error) {
      tell(error.message, { fault: true });
    }
  }

  async keep() {
    await this.bench.settled();
    const { id, name } = await post(`${this.bench.url}/casts`, {});
    this.bench.listening.second = id;
    tell(`Kept as ‘${name}’: J hears it, H hears the stack as it is.`);
    if (this.open) await this.refresh();
  }

  async typed(target) {
    const field = target.dataset.castField;
    if (!field) return;
    try {
      await post(`${this.bench.url}/casts/${target.closest("[data-cast]").dataset.cast}`, { [field]: target.value });
      this.bench.listening.tell();
    } catch (error) {
      tell(error.message, { fault: true });
      this.refresh();
    }
  }

  async remove(number) {
    if (this.bench.listening.cast === number) this.bench.listening.hearCast(0);
    const { name } = await post(`${this.bench.url}/casts/${number}/remove`, {});
    this.bench.listening.forgetCast(number);
    await this.refresh();
    tell(`‘${name}’ is removed.`, { stays: true });
    const back = document.createElement("button");
    back.type = "button";
    back.className = "btn btn-small";
    back.textContent = "Put back";
    back.addEventListener("click", async () => {
      await post(`${this.bench.url}/casts/${number}/put-back`, {});
      untell();
      this.refresh();
    });
    document.querySelector("#notices .notice")?.append(" ", back);
  }

  // --- blind -----------------------------------------------------------------------------------------------------

  async beginBlind(cast) {
    this.endBlind();
    this.blind = { cast, answers: [], ...await post(`${this.bench.url}/blind`, {}) };
    if (!this.bench.player.playing) await this.bench.player.start();
    this.hearBlind("x");
  }

  hearBlind(which) {
    const second = which === "x" ? this.blind.second : which === "second";
    this.blind.heard = which;
    this.bench.listening.hide(which === "x");
    this.bench.listening.hearCast(second ? this.blind.cast : 0);
    this.showBlind();
  }

  async answerBlind(second) {
    const { seed, answers } = this.blind;
    const next = [...answers, second];
    Object.assign(this.blind, await post(`${this.bench.url}/blind`, { seed, answers: next }), { answers: next });
    this.hearBlind("x");
  }

  endBlind() {
    if (!this.blind) return;
    this.blind = null;
    this.bench.listening.hide(false);
    this.bench.listening.hearCast(0);
    this.showBlind();
  }

  showBlind() {
    this.place.querySelectorAll(".blind").forEach((each) => {
      const cast = Number(each.closest("[data-cast]").dataset.cast);
      each.hidden = this.blind?.cast !== cast;
      if (each.hidden) return;
      const { heard, said, trials } = this.blind;
      const button = (data, text, pressed) => `<button type="button" class="btn btn-small" ${data}${pressed === undefined ? "" : ` aria-pressed="${pressed}"`}>${text}</button>`;
      each.innerHTML = `<p>Trial ${trials + 1}: which of the two is playing? Hear both by name as often as you like.</p>
        <div class="button-row">${button('data-blind-hear="x"', "the unknown", heard === "x")}${button('data-blind-hear="first"', "this stack", heard === "first")}${button('data-blind-hear="second"', "the cast", heard === "second")}</div>
        <div class="button-row">${button('data-blind-answer="first"', "The unknown is this stack")}${button('data-blind-answer="second"', "The unknown is the cast")}${button("data-blind-end", "End")}</div>
        <p class="section-note" role="status">${said}</p>`;
    });
  }
}
