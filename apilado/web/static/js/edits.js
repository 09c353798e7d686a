// Edits on their way to the server: at most one in flight, and of one gesture only the last value.

export class EditQueue {
  /** @param send async (edit, gesture) => void; a refusal is told by `refused(error)` and empties the queue. */
  constructor(send, refused) {
    this.send = send;
    this.refused = refused;
    this.waiting = [];
    this.busy = false;
  }

  /** `make` gives the edit at the moment it is sent, or null if there is nothing to do any more. */
  push(make, gesture = null) {
    const last = this.waiting.at(-1);
    if (gesture && last?.gesture === gesture) this.waiting.pop();
    this.waiting.push({ make, gesture });
    return this.drain();
  }

  async drain() {
    if (this.busy) return;
    this.busy = true;
    try {
      while (this.waiting.length) {
        const { make, gesture } = this.waiting.shift();
        const edit = make();
        if (edit) await this.send(edit, gesture);
      }
    } catch (error) {
      this.waiting = [];
      this.refused(error);
    } finally {
      this.busy = false;
    }
  }
}

let gestures = 0;
const page = Math.random().toString(36).slice(2);

export function newGesture() {
  gestures += 1;
  return `${page}-${gestures}`;
}
