import type { Phase, Plan, Told, Trip } from "./types";

/** The first byte of a message says what it is; four bytes of a number follow, the most significant first. */
const kinds = { packet: 1, echo: 2, answer: 3, start: 4 };
const headBytes = 5;
const openWithin = 8_000;
const answerWithin = 2_000;
const most = 64 << 10; // that may wait in this browser before a packet counts as not sent

/** message is one of a kind with a number, filled up to so many bytes. */
export function message(kind: number, number: number, bytes = headBytes): ArrayBuffer {
  const b = new ArrayBuffer(Math.max(headBytes, bytes));
  const view = new DataView(b);
  view.setUint8(0, kind);
  view.setUint32(1, number);
  return b;
}

/** read is what a message says; undefined of one that is none. */
export function read(b: ArrayBuffer): { kind: number; number: number } | undefined {
  if (b.byteLength < headBytes) return undefined;
  const view = new DataView(b);
  return { kind: view.getUint8(0), number: view.getUint32(1) };
}

/** due is how many packets have to have left after a time: those of all seats, each tick. */
export function due(plan: Plan, after: number): number {
  return Math.min(plan.packets, (Math.floor(after / plan.every_ms) + 1) * plan.seats);
}

export class Blocked extends Error {}

/** Packets is a data channel each way, which keep no order and send nothing anew. */
export class Packets {
  private next = 0;
  private readonly waiting = new Map<number, { sent: number; phase: Phase }>();

  private constructor(
    private readonly link: RTCPeerConnection,
    private readonly channel: RTCDataChannel,
    private readonly plan: Plan,
    private readonly told: Told,
  ) {}

  /** hear takes what the service sends, by a channel of its own. */
  private hear(back: RTCDataChannel) {
    back.binaryType = "arraybuffer";
    back.onmessage = (e: MessageEvent<ArrayBuffer>) => this.take(e.data, performance.now());
  }

  /** open makes the channel by an offer that ask answers; it throws Blocked where nothing comes through. */
  static async open(plan: Plan, told: Told, ask: (offer: string) => Promise<string>): Promise<Packets> {
    if (typeof RTCPeerConnection === "undefined") throw new Blocked("this browser sends none");
    const link = new RTCPeerConnection({ iceServers: [] });
    const channel = link.createDataChannel("there", { ordered: false, maxRetransmits: 0 });
    const back = new Promise<RTCDataChannel>((done) => (link.ondatachannel = (e) => done(e.channel)));
    try {
      await link.setLocalDescription(await link.createOffer());
      await within(3_000, new Promise<void>((done) => {
        if (link.iceGatheringState === "complete") done();
        link.onicegatheringstatechange = () => link.iceGatheringState === "complete" && done();
      })).catch(() => undefined); // with the addresses that are known by then
      await link.setRemoteDescription({ type: "answer", sdp: await ask(link.localDescription!.sdp) });
      const packets = new Packets(link, channel, plan, told);
      await within(openWithin, new Promise<void>((done) => {
        if (channel.readyState === "open") done();
        channel.onopen = () => done();
      }));
      packets.hear(await within(openWithin, back));
      return packets;
    } catch (e) {
      link.close();
      throw e instanceof Late ? new Blocked("nothing came back within 8 s") : new Blocked(e instanceof Error ? e.message : String(e));
    }
  }

  private take(b: ArrayBuffer, at: number) {
    const m = read(b);
    if (m?.kind === kinds.packet) this.told.came.push({ n: m.number, at });
    else if (m?.kind === kinds.answer) {
      const asked = this.waiting.get(m.number);
      if (!asked) return;
      this.waiting.delete(m.number);
      this.told.echoes.push({ phase: asked.phase, ms: at - asked.sent });
    }
  }

  /** echo asks once. */
  echo(phase: Phase) {
    if (this.channel.readyState !== "open") return;
    const number = this.next++;
    this.waiting.set(number, { sent: performance.now(), phase });
    this.channel.send(message(kinds.echo, number));
  }

  /** settle counts what was not answered as lost. */
  async settle() {
    await pause(Math.min(answerWithin, 1_000));
    for (const [n, asked] of this.waiting) {
      this.waiting.delete(n);
      this.told.echoes.push({ phase: asked.phase, ms: null } satisfies Trip);
    }
  }

  /** stream sends the packets of all seats, and has the service send its own meanwhile. */
  async stream(tell: (part: number) => void) {
    this.channel.send(message(kinds.start, 0));
    const began = performance.now();
    let sent = 0;
    while (sent < this.plan.packets && this.channel.readyState === "open") {
      for (const now = due(this.plan, performance.now() - began); sent < now; sent++) {
        if (this.channel.bufferedAmount > most) this.told.sent.push(-1);
        else {
          this.told.sent.push(performance.now());
          this.channel.send(message(kinds.packet, sent, this.plan.bytes));
        }
      }
      tell(sent / this.plan.packets);
      const next = began + Math.ceil((sent / this.plan.seats) * this.plan.every_ms);
      await pause(Math.max(0, next - performance.now()));
    }
    await pause(1_000); // for the last of them
  }

  close() {
    this.link.close();
  }
}

class Late extends Error {}

function within<T>(ms: number, what: Promise<T>): Promise<T> {
  return Promise.race([what, pause(ms).then(() => Promise.reject(new Late()))]);
}

export const pause = (ms: number) => new Promise<void>((done) => setTimeout(done, ms));
