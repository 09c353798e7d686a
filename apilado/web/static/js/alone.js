// What is heard alone: this page's, in no document. Parts, or one EQ point; it stays over a reload.

export class Alone {
  constructor(bench) {
    this.bench = bench;
    this.heard = JSON.parse(sessionStorage.getItem(`alone ${bench.url}`) ?? '{"alone":[],"point":""}');
  }

  /** As the address of a question tells it. */
  query() {
    return new URLSearchParams({ alone: this.heard.alone.join(","), point: this.heard.point });
  }

  /** Hears a part alone, with others that are, or no longer. */
  toggle(owner) {
    const others = this.heard.alone.filter((other) => other !== owner);
    this.hear({ alone: others.length < this.heard.alone.length ? others : [...others, owner], point: "" });
  }

  /** Hears only what an EQ point touches, or the whole again. */
  togglePoint(path) {
    this.hear({ ...this.heard, point: this.heard.point === path ? "" : path });
  }

  /** What has gone from the document is let go: it would be heard alone again if it came back. */
  letGo(gone) {
    const { alone, point } = this.heard;
    const left = { alone: alone.filter((owner) => !gone.includes(owner)), point: gone.includes(point) ? "" : point };
    if (left.alone.length < alone.length || left.point !== point) this.hear(left);
  }

  hear(heard) {
    this.heard = heard;
    sessionStorage.setItem(`alone ${this.bench.url}`, JSON.stringify(heard));
    this.bench.player.hearAlone(this.query().toString());
    this.show();
    this.bench.step("plan");
  }

  /** Which buttons are pressed in. */
  show() {
    document.querySelectorAll("[data-alone]").forEach((button) => button.setAttribute("aria-pressed", this.heard.alone.includes(button.dataset.alone)));
    document.querySelectorAll("[data-listen]").forEach((button) => button.setAttribute("aria-pressed", button.dataset.listen === this.heard.point));
  }
}
