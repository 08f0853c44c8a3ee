import { bits, ms, percent } from "../../format";
import type { Criterion, Found, Step, Verdict } from "./types";

/** kindName is how this kind is called where all kinds are. */
export const kindName = "accept";

const verdicts: Record<Verdict, string> = { pass: "passed", fail: "missed", not_told: "not told", "": "no limit" };

/** verdictOf is a verdict in words. */
export const verdictOf = (v: Verdict) => verdicts[v] ?? v;

/** amount writes a figure in its unit; what is not known is a dash. */
export function amount(v: number | null | undefined, unit: string): string {
  if (v == null) return "–";
  switch (unit) {
    case "bps":
      return bits(v);
    case "ms":
      return ms(v) + " ms";
    case "ratio":
      return percent(v) + " %";
  }
  return `${Math.round(v).toLocaleString("en-GB")} ${unit}`;
}

/** of names what a criterion is about. */
export const of = (c: Criterion) => [c.service ?? `${c.frame_bytes} bytes`, c.at].filter(Boolean).join(", ");

/** figureOf is what its figure is called. */
export const figureOf = (c: Criterion) => (c.figure === "highest_rate" ? "throughput" : c.figure);

/** way is a direction in words. */
export const way = (there: boolean, returned?: boolean) => (returned ? "round trip" : there ? "there" : "back");

/** bound is a limit, with the side on which it lies. */
export const bound = (c: Criterion) => (c.at_least ? "≥ " : "≤ ") + amount(c.limit, c.unit);

/** lost is what of a step did not arrive. */
export const lost = (s: Step | undefined) => (!s || s.loss_ratio == null ? "–" : s.lost === 0 ? `0 of ${s.sent.toLocaleString("en-GB")}` : `${percent(s.loss_ratio)} %`);

/** counts are how many limits came out how. */
export function counts(f: Found | undefined) {
  const list = f?.criteria ?? [];
  const n = (v: Verdict) => list.filter((c) => c.verdict === v).length;
  return { all: list.length, passed: n("pass"), missed: n("fail"), open: n("not_told") };
}

/** summary is how a test came out, in a few words. */
export function summary(f: Found | undefined): string {
  const n = counts(f);
  if (n.all === 0) return "no limits";
  return [`${n.passed} passed`, n.missed > 0 && `${n.missed} missed`, n.open > 0 && `${n.open} not told`].filter(Boolean).join(", ");
}

/** key tells criteria apart, so that those of two runs can be laid beside each other. */
export const key = (c: Criterion) => [c.part, c.figure, c.frame_bytes ?? 0, c.service ?? "", c.there, c.at ?? "", c.verdict === "" ? "" : "limit"].join("|");

/** Pair is a figure of two runs. */
export type Pair = { name: string; unit: string; before: number | null; after: number | null; better: boolean | undefined; verdicts: [Verdict, Verdict] };

/** pairs lays the criteria of two runs of a plan beside each other. */
export function pairs(before: Found, after: Found): Pair[] {
  const later = new Map((after.criteria ?? []).map((c) => [key(c), c]));
  return (before.criteria ?? []).flatMap((b) => {
    const a = later.get(key(b));
    if (!a) return [];
    const better = b.measured == null || a.measured == null || a.measured === b.measured ? undefined : a.measured > b.measured === b.at_least;
    return [{ name: `${figureOf(b)} ${way(b.there)}, ${of(b)}`, unit: b.unit, before: b.measured, after: a.measured, better, verdicts: [b.verdict, a.verdict] as [Verdict, Verdict] }];
  });
}
