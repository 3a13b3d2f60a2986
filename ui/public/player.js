// Plays blocks of interleaved stereo float32 that the page passes on from the server.
const GATHERED = 3;

class Player extends AudioWorkletProcessor {
  constructor() {
    super();
    this.queue = [];
    this.filling = true;
    this.offset = 0;
    this.played = 0;
    this.dropped = 0;
    this.expecting = false;
    this.dry = false;
    this.quanta = 0;
    this.epoch = 0;
    this.port.onmessage = ({ data }) => {
      if (data.flush !== undefined) {
        // another connection: what the old one sent is not played, and counting begins anew
        this.queue = [];
        this.offset = this.played = 0;
        this.filling = true;
        this.expecting = false;
        this.epoch = data.flush;
      } else if (data.block) {
        this.queue.push(new Float32Array(data.block));
        this.expecting = true;
      } else if (data.rest) {
        this.expecting = false;
      }
    };
  }

  process(_inputs, [output]) {
    const [left, right] = output;
    let n = 0;
    // after silence a few blocks are gathered first, so that a late one is not heard as a gap
    if (this.filling && (this.queue.length >= GATHERED || !this.expecting)) this.filling = false;
    if (this.filling) return true;
    while (n < left.length && this.queue.length > 0) {
      const block = this.queue[0];
      const frames = Math.min(left.length - n, block.length / 2 - this.offset);
      for (let i = 0; i < frames; i++) {
        left[n + i] = block[2 * (this.offset + i)];
        right[n + i] = block[2 * (this.offset + i) + 1];
      }
      n += frames;
      this.offset += frames;
      if (this.offset * 2 >= block.length) {
        this.queue.shift();
        this.offset = 0;
      }
    }
    this.played += n;
    // one gap counts once, however many quanta it lasts
    const gap = n < left.length && this.expecting;
    if (gap && !this.dry) this.dropped += 1;
    this.dry = gap;
    if (this.queue.length === 0) this.filling = true;
    if (++this.quanta % 4 === 0) {
      this.port.postMessage({ played: this.played, dropped: this.dropped, epoch: this.epoch });
    }
    return true;
  }
}
registerProcessor("mivlo-player", Player);
