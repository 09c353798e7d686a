// Edits on their way to the server, and of one gesture only the last value. While a hand moves, each waits for the answer
// to the one before; where it lets go, its last edit is posted as soon as the one before is kept.

export class EditQueue {
  /**
   * @param send async (edit, gesture, final, kept) => an answer; it calls `kept` as soon as the edit is known to be kept.
   *   A refusal is told by `refused(error)`. It takes with it what the same hand still does; what comes behind is sent.
   *   Where nobody answers, nothing more is sent.
   * @param answered (answer, edit, final) => void, in the order in which the edits were sent.
   * @param rested () => void: a gesture has ended where its last edit had left it already.
   */
  constructor({ send, answered, refused, rested }) {
    Object.assign(this, { send, answered, refused, rested });
    this.sent = { gesture: null, text: "" };
    this.waiting = [];
    this.underWay = 0;
    this.unkept = null; // the edit of which it is not known yet whether it is kept
    this.inOrder = Promise.resolve();
  }

  get busy() {
    return this.underWay > 0 || this.waiting.length > 0;
  }

  /** Whether the answer that is being taken is that of the newest edit. */
  get atLast() {
    return this.underWay === 1 && !this.waiting.length;
  }

  /** `make` gives the edit at the moment it is sent, or null if there is nothing to do any more. */
  push(make, gesture = null, final = true) {
    const last = this.waiting.at(-1);
    if (gesture && last?.gesture === gesture) this.waiting.pop();
    this.waiting.push({ make, gesture, final });
    this.go();
  }

  go() {
    while (this.waiting.length && !this.unkept && (!this.underWay || this.waiting[0].final)) this.post(this.waiting.shift());
  }

  async post({ make, gesture, final }) {
    const mine = (this.unkept = {});
    const kept = () => {
      if (this.unkept === mine) this.unkept = null;
      this.go();
    };
    const before = this.inOrder;
    let through;
    this.inOrder = new Promise((resolve) => { through = resolve; });
    this.underWay += 1;
    try {
      const edit = make();
      const text = JSON.stringify(edit);
      const known = edit === null || (gesture !== null && gesture === this.sent.gesture && text === this.sent.text);
      this.sent = { gesture, text };
      if (!known) {
        const answer = await this.send(edit, gesture, final, kept);
        if (this.unkept === mine) this.unkept = null;
        await before;
        this.answered(answer, edit, final);
      } else if (final) {
        await before; // its stretch comes first: the loop would take the time from it
        this.rested();
      }
    } catch (error) {
      const answered = error.status !== undefined;
      this.waiting = this.waiting.filter((each) => answered && (gesture === null || each.gesture !== gesture));
      this.refused(error);
    }
    this.underWay -= 1;
    before.then(through);
    kept();
  }
}

let gestures = 0;
const page = Math.random().toString(36).slice(2);

export function newGesture() {
  gestures += 1;
  return `${page}-${gestures}`;
}
