import type { Lanes } from "../api";
import { exactly, ms, percent, when } from "../format";
import { plotLeft, plotRight } from "./plotOptions";
import type { Range } from "../format";

const laneHeight = 20;

type Column = NonNullable<Lanes["columns"]>[number];
type Cell = NonNullable<Column["hops"]>[number];

/**
 * RouteField draws a lane a hop, from here at the top to the target at the
 * bottom, along the same time as the plot above: the darker, the more delay the
 * hop adds that carries on; ticks hang where loss carries on from it; a lane is
 * split where flows take several ways.
 */
export function RouteField({ lanes, range }: { lanes: Lanes; range: Range }) {
  const columns = lanes.columns ?? [];
  const depth = Math.max(0, ...columns.map((c) => c.hops?.length ?? 0));
  if (columns.length === 0)
    return (
      <p className="py-3 text-soft">
        No trace of this path in this time. A watch of kind “trace” keeps its route along time; <i>Measure</i> traces it once.
      </p>
    );
  const times = columns.map((c) => new Date(c.at).getTime());
  const steps = times.slice(1).map((t, i) => t - times[i]!).sort((a, b) => a - b);
  const usual = steps[Math.floor(steps.length / 2)] ?? 15 * 60_000;
  // A column stands until the next, but not over a gap.
  const until = (i: number) => Math.min(times[i + 1] ?? times[i]! + usual, times[i]! + 2 * usual);
  const x = (t: number) => ((Math.max(range.from, Math.min(range.to, t)) - range.from) / (range.to - range.from)) * 1000;
  const most = Math.max(1, ...columns.flatMap((c) => (c.hops ?? []).map((h) => h.added_ms ?? 0)));
  const newest = columns[columns.length - 1]!;
  const name = (a: string) => lanes.names?.[a]?.name || a;
  const who = (h: Cell | undefined) => (!h || !h.addresses?.length ? "nobody answers" : h.addresses.length === 1 ? name(h.addresses[0]!) : `${h.addresses.length} by flow: ${h.addresses.map(name).join(", ")}`);
  return (
    <figure style={{ marginLeft: plotLeft, marginRight: plotRight }} data-lanes={depth} data-columns={columns.length}>
      <div className="relative h-4" role="group" aria-label="Route changes">
        {(lanes.changes ?? []).map((c) => (
          <span key={c.at} className="absolute -translate-x-px text-ochre" style={{ left: x(new Date(c.at).getTime()) / 10 + "%" }}
            title={`${exactly(c.at)}: another route${c.step_ms != null ? `, the round trip ${ms(Math.abs(c.step_ms))} ms ${c.step_ms < 0 ? "shorter" : "longer"}` : ""}`}>
            <svg viewBox="0 0 10 16" className="h-4 w-2.5" role="img" aria-label={`The route became another, ${when(c.at)}`}>
              <path d="M1 16V1h8L6.5 4 9 7H1" fill="currentColor" stroke="currentColor" strokeWidth="1" />
            </svg>
          </span>
        ))}
      </div>
      {Array.from({ length: depth }, (_, k) => {
        const now = newest.hops?.[k];
        const others = [...new Set(columns.map((c) => who(c.hops?.[k])))].filter((w) => w !== who(now) && columns.some((c) => c.hops?.[k] && who(c.hops[k]) === w));
        return (
          <div key={k} className="pb-1">
            <div className="flex justify-between gap-4 text-xs leading-4 text-soft">
              <span className="truncate">
                <span className="figures inline-block w-5">{k + 1}</span> {who(now)}
                {others.length > 0 && `, before ${others.slice(0, 2).join(", ")}`}
              </span>
              <span className="figures whitespace-nowrap">
                {now?.added_ms != null && `adds ${ms(now.added_ms)} ms`}
                {now?.carried_loss_ratio ? <span className="text-plum">, {percent(now.carried_loss_ratio)} % lost from here on</span> : null}
              </span>
            </div>
            <svg viewBox={`0 0 1000 ${laneHeight}`} preserveAspectRatio="none" className="block h-5 w-full bg-sheet" role="img"
              aria-label={`Hop ${k + 1}: ${who(now)}, adds ${ms(now?.added_ms)} ms now`}>
              {columns.map((c, i) => {
                const h = c.hops?.[k];
                if (!h) return null;
                const [a, b] = [x(times[i]!), x(until(i))];
                const parts = Math.max(1, Math.min(4, h.addresses?.length ?? 1));
                const share = Math.sqrt(Math.max(0, h.added_ms ?? 0) / most);
                return (
                  <g key={c.at}>
                    <title>{`${exactly(c.at)}\n${who(h)}\nadds ${ms(h.added_ms)} ms, ${ms(h.rtt_median_ms)} ms so far\n${h.answered} of ${h.probes} answered, ${percent(h.carried_loss_ratio)} % lost from here on`}</title>
                    {h.addresses?.length ? (
                      Array.from({ length: parts }, (_, n) => (
                        <rect key={n} x={a} width={Math.max(0.6, b - a)} shapeRendering="crispEdges" y={(n * laneHeight) / parts + (n ? 0.75 : 0)} height={laneHeight / parts - (n ? 0.75 : 0)}
                          fill="var(--ink)" fillOpacity={0.06 + 0.6 * share} />
                      ))
                    ) : (
                      <line x1={a} x2={b} y1={laneHeight / 2} y2={laneHeight / 2} stroke="var(--soft)" strokeDasharray="4 4" vectorEffect="non-scaling-stroke" />
                    )}
                    {h.carried_loss_ratio ? <rect x={(a + b) / 2 - 0.8} width="1.6" y="0" height={laneHeight * Math.min(1, 0.25 + Math.sqrt(h.carried_loss_ratio))} fill="var(--plum)" /> : null}
                  </g>
                );
              })}
            </svg>
          </div>
        );
      })}
      <figcaption className="flex flex-wrap gap-x-6 gap-y-1 pt-1 text-sm text-soft">
        <span>
          <i className="mr-2 inline-block h-3 w-5 bg-ink/60 align-middle" />
          adds {ms(most)} ms, the most here; paler for less
        </span>
        <span>
          <i className="mr-2 inline-block h-3 w-0.5 bg-plum align-middle" />
          loss that carries on to the target
        </span>
        <span>
          <i className="mr-2 inline-block h-3 w-2 border-y border-ink/40 align-middle" />
          split: flows take several ways
        </span>
        <span className="text-ochre">
          ⚑ <span className="text-soft">another route from here on</span>
        </span>
        <span>traces by {lanes.via}</span>
      </figcaption>
    </figure>
  );
}
