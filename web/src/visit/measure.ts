import { Blocked, Packets, pause } from "./packets";
import { nothing, type Begun, type Kept, type Phase, type Told } from "./types";

/** Step is how far a visit is: what is done, and the part of all. */
export type Step = { says: string; part: number };

const markEvery = 50;
const trips = 15;

/** Refused is that the service refused a call, in its words. */
export class Refused extends Error {}

async function say(answer: Response): Promise<Response> {
  if (answer.ok) return answer;
  const problem = (await answer.json().catch(() => ({}))) as { detail?: string };
  throw new Refused(problem.detail ?? `The service answers ${answer.status}.`);
}

/** Way is the calls of one link's page. */
export class Way {
  private count = 0;
  constructor(private readonly base: string) {}

  about = async () => (await say(await fetch(this.base + "/visit/"))).json();
  begin = async (): Promise<Begun> => (await say(await fetch(this.base + "/visit/begin", { method: "POST" }))).json();

  url(call: string, ticket: string) {
    return `${this.base}/visit/${call}?ticket=${encodeURIComponent(ticket)}&n=${this.count++}`;
  }

  async trip(ticket: string): Promise<number | null> {
    const url = this.url("ping", ticket);
    const began = performance.now();
    try {
      const answer = await fetch(url, { cache: "no-store", signal: AbortSignal.timeout(5_000) });
      await answer.arrayBuffer();
      if (!answer.ok) return null;
    } catch {
      return null;
    }
    const took = performance.now() - began;
    const entry = performance.getEntriesByName(new URL(url, location.href).href).at(-1) as PerformanceResourceTiming | undefined;
    return entry && entry.requestStart > 0 && entry.responseStart > entry.requestStart ? entry.responseStart - entry.requestStart : took;
  }

  end = async (ticket: string, told: Told): Promise<Kept> =>
    (await say(await fetch(this.url("end", ticket), { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(told) }))).json();
}

/** visit measures all of it, and gives what was found. */
export async function visit(way: Way, words: string, tell: (s: Step) => void): Promise<Kept> {
  const { ticket, plan } = await way.begin();
  const told = nothing();
  told.words = words;
  performance.setResourceTimingBufferSize(2_000);
  let hidden = document.hidden;
  const seen = () => (hidden ||= document.hidden);
  document.addEventListener("visibilitychange", seen);
  let packets: Packets | undefined;
  try {
    for (let i = 0; i < trips; i++) {
      tell({ says: "The round trip, while nothing is sent", part: (0.05 * i) / trips });
      told.trips.push({ phase: "rest", ms: await way.trip(ticket) });
    }
    tell({ says: "A channel for packets", part: 0.05 });
    packets = await Packets.open(plan, told, async (offer) => (await say(await fetch(way.url("offer", ticket), { method: "POST", headers: { "Content-Type": "application/sdp" }, body: offer }))).text()).catch((e: unknown) => {
      told.blocked = e instanceof Blocked ? e.message : String(e);
      return undefined;
    });
    for (let i = 0; packets && i < plan.pings; i++) {
      tell({ says: "The round trip of packets", part: 0.1 });
      packets.echo("rest");
      await pause(50);
    }
    await packets?.settle();
    await packets?.stream((part) => tell({ says: `Packets each way, those of ${plan.seats === 1 ? "one seat" : `${plan.seats} seats`}`, part: 0.15 + 0.3 * part }));
    for (const phase of ["down", "up"] as const) {
      const from = phase === "down" ? 0.45 : 0.72;
      await load(phase, way, ticket, plan, told, packets, (part) => tell({ says: phase === "down" ? "How much comes here" : "How much goes there", part: from + 0.27 * part }));
      await packets?.settle();
    }
  } catch (e) {
    told.problem = e instanceof Error ? e.message : String(e);
  } finally {
    document.removeEventListener("visibilitychange", seen);
    packets?.close();
  }
  if (hidden) told.problem = [told.problem, "the page was not on top all the time: browsers then send late"].filter(Boolean).join("; ");
  tell({ says: "The answer", part: 0.99 });
  return way.end(ticket, told);
}

/** load fills the way in one direction, and measures the round trip meanwhile. */
async function load(phase: Exclude<Phase, "rest">, way: Way, ticket: string, plan: Begun["plan"], told: Told, packets: Packets | undefined, tell: (part: number) => void) {
  const stop = new AbortController();
  const began = performance.now();
  let bytes = 0;
  const most = plan.load_s * 1_000;
  const note = () => told.down.push({ at: performance.now(), bytes });
  const streams = Array.from({ length: plan.streams }, () => (phase === "down" ? download(way.url("down", ticket), stop.signal, (n) => (bytes += n)) : upload(way, ticket, stop.signal)));
  const asking = (async () => {
    await pause(plan.warm_up_s * 1_000);
    while (!stop.signal.aborted) {
      const ms = await way.trip(ticket);
      if (!stop.signal.aborted) told.trips.push({ phase, ms });
      await pause(250);
    }
  })();
  for (let after = 0, i = 0; after < most && bytes < plan.most_bytes; after = performance.now() - began, i++) {
    if (phase === "down" && bytes > 0) note();
    if (i % 2 === 0 && after > plan.warm_up_s * 1_000) packets?.echo(phase);
    tell(after / most);
    await pause(markEvery);
  }
  if (phase === "down") note();
  stop.abort();
  await Promise.allSettled([...streams, asking]);
}

async function download(url: string, signal: AbortSignal, got: (n: number) => void) {
  const answer = await fetch(url, { cache: "no-store", signal });
  const reader = answer.body!.getReader();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    got(value.byteLength);
  }
}

async function upload(way: Way, ticket: string, signal: AbortSignal) {
  const piece = new Uint8Array(1 << 20);
  for (let i = 0; i < piece.length; i += 65_536) crypto.getRandomValues(piece.subarray(i, i + 65_536));
  const body = new Blob(Array.from({ length: 32 }, () => piece));
  while (!signal.aborted) {
    const answer = await fetch(way.url("up", ticket), { method: "POST", body, signal });
    if (!answer.ok) return;
  }
}
