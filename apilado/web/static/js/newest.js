// Work of which only the newest counts: one at a time, and once more at the end if it was asked for meanwhile.

export class Newest {
  /** @param work async () => void; what it raises, `failed(error)` tells. */
  constructor(work, failed) {
    this.work = work;
    this.failed = failed;
    this.again = false;
    this.running = null;
  }

  get busy() {
    return this.running !== null;
  }

  /** Does the work, or has it done again after the one under way. */
  ask() {
    this.again = true;
    this.running ??= this.run();
    return this.running;
  }

  async run() {
    await null; // so that `running` is set before anything is done
    while (this.again) {
      this.again = false;
      try {
        await this.work();
      } catch (error) {
        this.failed(error);
      }
    }
    this.running = null;
  }
}
