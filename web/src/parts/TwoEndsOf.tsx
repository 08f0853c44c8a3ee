import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type Path, type TwoEnded } from "../api";
import { bits, exactly } from "../format";
import { May } from "../may";

/** TwoEndsOf is what was measured between the two ends of a path: throughput against its usual, and how calls sound. */
export function TwoEndsOf({ path }: { path: Path }) {
  const list = useQuery({ queryKey: ["two-ended", "of", path.id], queryFn: () => get<TwoEnded[]>(`/two-ended?limit=200&path=${path.id}`) });
  const done = (list.data ?? []).filter((x) => x.outcome === "done").reverse();
  const failed = (list.data ?? []).filter((x) => x.outcome === "failed" || x.outcome === "missed");
  // The runs of one watch are alike; what somebody asked for by hand may be of another kind.
  const all = done.filter((x) => x.kind === "throughput");
  const watch = all.findLast((x) => x.watch)?.watch;
  const through = watch ? all.filter((x) => x.watch === watch) : all.slice(-1);
  const calls = done.filter((x) => x.kind === "stream" && x.mos != null);
  return (
    <section aria-labelledby="two-ends">
      <h2 id="two-ends" className="text-lg">
        Between both ends
      </h2>
      {through.length > 0 && (
        <>
          <Along what={`Throughput, ${path.from} → ${path.to}`} note={watch ? `by the watch “${watch}”` : "asked for by hand"} points={through.map((x) => [x.started_at, x.there_bps ?? null])} format={bits} usual={usualOf(path.throughput?.there)} />
          <Along what={`Throughput, ${path.to} → ${path.from}`} points={through.map((x) => [x.started_at, x.back_bps ?? null])} format={bits} usual={usualOf(path.throughput?.back)} />
        </>
      )}
      {calls.length > 0 && <Along what="MOS of the worse direction" points={calls.map((x) => [x.started_at, x.mos ?? null])} format={(v) => v.toFixed(2)} low={1} high={4.5} />}
      {through.length + calls.length === 0 && (
        <p className="mt-1 text-soft">
          Nothing was measured with two ends. Where an agent stands at {path.to},{" "}
          <May call="start-runs"><Link to={`/measure?kind=stream&from=${encodeURIComponent(path.from)}`} className="underline underline-offset-4">
            measure a stream or the throughput
          </Link></May>
          .
        </p>
      )}
      {through.length === 0 && path.site_throughput && (
        <p className="text-sm text-soft" title={exactly(path.site_throughput.at)}>
          Of the site, not of this path: {[path.site_throughput.there.bps, path.site_throughput.back.bps].map((v, i) => v != null && `${i === 0 ? "→" : "←"} ${bits(v)} `)} measured to {path.site_throughput.to}.
        </p>
      )}
      {failed.length > 0 && <p className="text-sm text-plum">{failed.length} failed; the last: {failed[0]!.reason}</p>}
    </section>
  );
}

type Usual = { low: number; high: number } | undefined;

const usualOf = (w: { usual_low_bps: number | null; usual_high_bps: number | null } | undefined): Usual =>
  w?.usual_low_bps == null || w.usual_high_bps == null ? undefined : { low: w.usual_low_bps, high: w.usual_high_bps };

/** Along draws figures over time, over the ribbon of what is usual where that is known. */
function Along({ what, note, points, format, low, high, usual }: { what: string; note?: string; points: [string, number | null][]; format: (v: number) => string; low?: number; high?: number; usual?: Usual }) {
  const known = points.filter((p): p is [string, number] => p[1] != null);
  if (known.length === 0) return null;
  const sorted = known.map((p) => p[1]).sort((a, b) => a - b);
  const bottom = low ?? 0;
  const top = high ?? Math.max(sorted.at(-1)!, usual?.high ?? 0) * 1.1;
  const band = usual ? `; usual ${format(usual.low)} to ${format(usual.high)}` : "";
  const y = (v: number) => 56 - ((v - bottom) / (top - bottom)) * 52;
  const first = Date.parse(known[0]![0]);
  const span = Math.max(1, Date.parse(known.at(-1)![0]) - first);
  const x = (t: string) => 6 + ((Date.parse(t) - first) / span) * 588;
  const last = known.at(-1)!;
  return (
    <figure className="mt-3">
      <figcaption className="flex justify-between text-sm text-soft">
        <span title={note}>{what}</span>
        <span className="figures" title={exactly(last[0])}>
          last {format(last[1])}
          {band}
        </span>
      </figcaption>
      <svg viewBox="0 0 600 60" className="h-14 w-full border-b border-line" preserveAspectRatio="none" role="img" aria-label={`${what}: ${known.length} readings, the last ${format(last[1])}${band}`}>
        {usual && <rect x="0" width="600" y={y(usual.high)} height={Math.max(1, y(usual.low) - y(usual.high))} fill="var(--ribbon)" />}
        <path d={known.map((p, i) => `${i ? "L" : "M"}${x(p[0]).toFixed(1)} ${y(p[1]).toFixed(1)}`).join("")} fill="none" stroke="var(--ink)" strokeWidth="1.25" vectorEffect="non-scaling-stroke" />
        {known.map((p) => (
          <circle key={p[0]} cx={x(p[0])} cy={y(p[1])} r="2" fill="var(--ink)" />
        ))}
      </svg>
    </figure>
  );
}
