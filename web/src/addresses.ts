/** Addresses as numbers, to give those of a sweep their places in a map. */
type Span = { first: bigint; last: bigint; six: boolean };

export type Places = { spans: Span[]; find: (address: string) => number; at: (place: number) => string };

function parse(text: string): { value: bigint; six: boolean } | null {
  if (!text.includes(":")) {
    const parts = text.split(".").map(Number);
    if (parts.length !== 4 || parts.some((p) => !(p >= 0 && p <= 255))) return null;
    return { value: parts.reduce((sum, p) => sum * 256n + BigInt(p), 0n), six: false };
  }
  const [head, tail] = text.split("::");
  const words = (s: string | undefined) => (s ? s.split(":") : []);
  const before = words(head);
  const after = tail === undefined ? [] : words(tail);
  const middle = tail === undefined ? [] : new Array<string>(8 - before.length - after.length).fill("0");
  const all = [...before, ...middle, ...after];
  if (all.length !== 8) return null;
  return { value: all.reduce((sum, w) => sum * 65536n + BigInt(parseInt(w || "0", 16)), 0n), six: true };
}

function format(value: bigint, six: boolean): string {
  if (!six) return [24n, 16n, 8n, 0n].map((s) => (value >> s) & 255n).join(".");
  const words = Array.from({ length: 8 }, (_, i) => ((value >> BigInt(112 - 16 * i)) & 65535n).toString(16));
  // The longest run of zeros, of two words at least, is left out (RFC 5952 §4.2).
  let best = { at: 0, length: 1 };
  for (let i = 0; i < 8; i++) {
    let n = 0;
    while (words[i + n] === "0") n++;
    if (n > best.length) best = { at: i, length: n };
  }
  if (best.length < 2) return words.join(":");
  return words.slice(0, best.at).join(":") + "::" + words.slice(best.at + best.length).join(":");
}

function spanOf(entry: string): Span | null {
  const [prefix, bits] = entry.split("/");
  if (bits !== undefined) {
    const a = parse(prefix!);
    if (!a) return null;
    const rest = BigInt((a.six ? 128 : 32) - Number(bits));
    const first = (a.value >> rest) << rest;
    return { first, last: first + (1n << rest) - 1n, six: a.six };
  }
  const [from, to] = entry.split("-");
  const a = parse(from!.trim());
  if (!a) return null;
  if (to === undefined) return { first: a.value, last: a.value, six: a.six };
  const whole = parse(to.trim());
  const low = a.six ? 65536n : 256n;
  const last = whole ? whole.value : (a.value / low) * low + BigInt(parseInt(to.trim(), a.six ? 16 : 10));
  return { first: a.value, last, six: a.six };
}

/** places gives the addresses of a sweep their places, in order, each once. */
export function places(entries: string[], exclude: string[]): Places {
  const all = entries.map(spanOf).filter((s): s is Span => s !== null && (s.last - s.first < 1n << 24n));
  all.sort((a, b) => (a.six !== b.six ? Number(a.six) - Number(b.six) : a.first < b.first ? -1 : 1));
  let spans: Span[] = [];
  for (const s of all) {
    const last = spans[spans.length - 1];
    if (last && last.six === s.six && s.first <= last.last + 1n) {
      if (s.last > last.last) last.last = s.last;
    } else spans.push({ ...s });
  }
  for (const x of exclude.map(spanOf)) {
    if (!x) continue;
    spans = spans.flatMap((s) => {
      if (s.six !== x.six || s.last < x.first || x.last < s.first) return [s];
      const out: Span[] = [];
      if (s.first < x.first) out.push({ ...s, last: x.first - 1n });
      if (x.last < s.last) out.push({ ...s, first: x.last + 1n });
      return out;
    });
  }
  return {
    spans,
    find: (address) => {
      const a = parse(address);
      let before = 0;
      for (const s of spans) {
        if (a && a.six === s.six && a.value >= s.first && a.value <= s.last) return before + Number(a.value - s.first);
        before += Number(s.last - s.first) + 1;
      }
      return -1;
    },
    at: (place) => {
      for (const s of spans) {
        const n = Number(s.last - s.first) + 1;
        if (place < n) return format(s.first + BigInt(place), s.six);
        place -= n;
      }
      return "";
    },
  };
}

export const count = (p: Places) => p.spans.reduce((sum, s) => sum + Number(s.last - s.first) + 1, 0);
