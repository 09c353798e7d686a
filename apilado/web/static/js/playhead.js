// The playhead: a line that the compositor moves over a drawing by itself. To move it from the page would cost a pass over
// all that is drawn in every frame; here the page only looks whether it is where the sound is.

const APART_MS = 20; // so far it may be from the sound before it is put there

export class Playhead {
  constructor(line) {
    this.line = line;
    this.way = "";
    this.motion = null;
  }

  /** On a way from one place to another in pixels, gone round in `lasts` ms, of which `gone` have gone; or it stays. */
  show([begin, end], lasts, gone, goes) {
    const way = `${begin.toFixed(1)} ${end.toFixed(1)} ${lasts.toFixed(1)}`;
    if (way !== this.way) {
      this.motion?.cancel();
      const transform = [begin, end].map((x) => `translateX(${x.toFixed(1)}px)`);
      this.motion = this.line.animate({ transform }, { duration: lasts, iterations: Infinity });
      this.motion.pause();
      this.way = way;
    }
    if (!goes) return this.put(gone);
    // What it shows in this frame is of the time at which the frame began.
    const wanted = gone - (performance.now() - document.timeline.currentTime);
    const off = Math.abs(this.motion.currentTime - wanted) % lasts;
    if (this.motion.playState === "running" && Math.min(off, lasts - off) < APART_MS) return;
    this.motion.currentTime = ((wanted % lasts) + lasts) % lasts;
    this.motion.play();
  }

  put(gone) {
    if (this.motion.playState !== "paused") this.motion.pause();
    if (this.motion.currentTime !== gone) this.motion.currentTime = gone;
  }
}
