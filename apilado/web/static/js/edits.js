// Edits on their way to the server: at most one in flight, and of one gesture only the last value.

export class EditQueue {
  /**
   * @param send async (edit, gesture, final) => void; a refusal is told by `refused(error)`. It takes with it what the
   *   same hand still does; what comes behind is sent. Where nobody answers, nothing more is sent.
   * @param rested () => void: a gesture has ended where its last edit had left it already.
   */
  constructor(send, refused, rested) {
    this.send = send;
    this.refused = refused;
    this.rested = rested;
    this.sent = { gesture: null, text: "" };
    this.waiting = [];
    this.busy = false;
  }

  /** `make` gives the edit at the moment it is sent, or null if there is nothing to do any more. */
  push(make, gesture = null, final = true) {
    const last = this.waiting.at(-1);
    if (gesture && last?.gesture === gesture) this.waiting.pop();
    this.waiting.push({ make, gesture, final });
    return this.drain();
  }

  async drain() {
    if (this.busy) return;
    this.busy = true;
    while (this.waiting.length) {
      const { make, gesture, final } = this.waiting.shift();
      try {
        const edit = make();
        const text = JSON.stringify(edit);
        const known = edit === null || (gesture !== null && gesture === this.sent.gesture && text === this.sent.text);
        this.sent = { gesture, text };
        if (!known) await this.send(edit, gesture, final);
        else if (final) this.rested();
      } catch (error) {
        const answered = error.status !== undefined;
        this.waiting = this.waiting.filter((each) => answered && (gesture === null || each.gesture !== gesture));
        this.refused(error);
      }
    }
    this.busy = false;
  }
}

let gestures = 0;
const page = Math.random().toString(36).slice(2);

export function newGesture() {
  gestures += 1;
  return `${page}-${gestures}`;
}
