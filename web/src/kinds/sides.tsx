import type { Run } from "../api";
import { bits } from "../format";
import { Mirror, type Stretch } from "../parts/Mirror";
import { Findings } from "./Findings";

/** sides are the two directions of a measurement between two ends. */
export const sides = <T extends { there: boolean }>(list: T[] | null | undefined) => ({ there: (list ?? []).find((d) => d.there), back: (list ?? []).find((d) => !d.there) });

/** Between is what all measurements between two ends show: their ends, how far they are, what is concluded, and while they go on what arrives. */
export function Between({ run, children }: { run: Run; children?: React.ReactNode }) {
  const running = run.outcome === "running";
  return (
    <section aria-label={`${run.from} to ${run.to}`}>
      <h2 className="text-lg">
        {run.from} → {run.to}
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {running ? `${run.says || "going on"}${run.of ? `, ${Math.round((100 * run.heard) / run.of)} %` : ""}` : run.outcome}
        {run.reason && `: ${run.reason}`}
      </p>
      <Findings list={run.findings} />
      {running ? <Live run={run} /> : children}
    </section>
  );
}

/** Live is the run that goes on, second by second. */
function Live({ run }: { run: Run }) {
  const live = run.live ?? [];
  if (live.length === 0) return null;
  const strip = (of: (s: (typeof live)[number]) => number): Stretch[] => live.map((s) => ({ start: s.start_s, length: s.span_s, value: of(s) }));
  return <Mirror there={strip((s) => s.there_bps)} back={strip((s) => s.back_bps)} unit="" format={(v) => bits(v)} names={[`${run.from} → ${run.to}`, `${run.to} → ${run.from}`]} what="Payload arriving now" />;
}

/** Sides is a table of both directions. */
export function Sides<T extends { direction: string }>({ rows, there, back }: { rows: [string, (d: T) => string][]; there?: T; back?: T }) {
  const list = [there, back].filter((d): d is T => d !== undefined);
  return (
    <table className="figures mt-2">
      <thead className="text-sm text-soft">
        <tr>
          <td />
          {list.map((d) => (
            <th key={d.direction} scope="col" className="pr-8 pb-1 text-right font-normal">
              {d.direction}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows
          .filter(([, cell]) => list.some((d) => !cell(d).startsWith("–")))
          .map(([what, cell]) => (
            <tr key={what}>
              <th scope="row" className="pr-8 text-left font-normal text-soft">
                {what}
              </th>
              {list.map((d) => (
                <td key={d.direction} className="pr-8 text-right">
                  {cell(d)}
                </td>
              ))}
            </tr>
          ))}
      </tbody>
    </table>
  );
}
