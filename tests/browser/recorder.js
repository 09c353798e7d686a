// A worklet that passes on what the page plays, with a frame count of its own; it makes no sound itself.
class Recorder extends AudioWorkletProcessor {
  constructor() {
    super();
    this.frames = [[], []];
    this.count = 0;
  }

  process([input]) {
    for (let channel = 0; channel < 2; channel += 1) {
      this.frames[channel].push(...(input[channel] ?? new Float32Array(128)));
    }
    if (this.frames[0].length >= 4096) {
      this.port.postMessage(this.frames.map((frames) => Float32Array.from(frames)));
      this.frames = [[], []];
    }
    return true;
  }
}
registerProcessor("recorder", Recorder);
