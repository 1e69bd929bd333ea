/** Hands on what a microphone gives, some thousand samples at a time, and how loud it is. */
class Tap extends AudioWorkletProcessor {
  constructor() {
    super();
    this.held = new Float32Array(4096);
    this.filled = 0;
  }

  process(inputs) {
    const input = inputs[0]?.[0];
    if (!input) return true;
    for (const sample of input) {
      this.held[this.filled++] = sample;
      if (this.filled < this.held.length) continue;
      this.port.postMessage(this.held.slice());
      this.filled = 0;
    }
    return true;
  }
}

registerProcessor("zubret-tap", Tap);
