import { useEffect, useId, useRef, useState, type KeyboardEvent, type PointerEvent } from "react";
import type { PartShown } from "../../api";
import { exactly, localZone, ms, percent } from "../../format";

type Trend = NonNullable<PartShown["trend"]>;
type Step = NonNullable<Trend["steps"]>[number];

const [left, right, top, bottom] = [48, 8, 14, 34];

/** says writes a figure in the unit of a trend. */
export const says = (unit: string, v: number) => (unit === "ms" ? `${ms(v)} ms` : unit === "ratio" ? `${percent(v)} %` : v.toFixed(2));

const bare = (unit: string, v: number) => (unit === "ratio" ? v * 100 : v);
const unitName: Record<string, string> = { ms: "ms", ratio: "%", mos: "MOS" };

/** ticks are round figures between two. */
export function ticks(low: number, high: number): number[] {
  const rough = (high - low) / 4;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough) ?? 10 * power;
  const list: number[] = [];
  for (let v = Math.ceil(low / step - 1e-9) * step; v <= high + step * 1e-9; v += step) list.push(Number(v.toPrecision(10)));
  return list;
}

/** TrendPart draws a measure over many paths: its line over the ribbon of most of them. Hover, or the arrow keys, tell exact figures. */
export function TrendPart({ trend, name }: { trend: Trend; name: string }) {
  const [at, setAt] = useState<number>();
  const id = useId();
  const box = useRef<HTMLDivElement>(null);
  const [[width, height], setSize] = useState([640, 200]); // as large as there is room, so that letters keep their size
  useEffect(() => {
    const watcher = new ResizeObserver(([e]) => e && setSize([Math.max(240, Math.round(e.contentRect.width)), Math.max(140, Math.round(e.contentRect.height))]));
    if (box.current) watcher.observe(box.current);
    return () => watcher.disconnect();
  }, []);
  const steps = trend.steps ?? [];
  if (steps.length === 0) return null;
  const from = new Date(trend.from_at).getTime();
  const to = new Date(trend.to_at).getTime();
  const values = steps.flatMap((s) => [s.low, s.high, s.value]).map((v) => bare(trend.unit, v));
  let [low, high] = [Math.min(...values), Math.max(...values)];
  if (trend.unit !== "mos" && low < 0.6 * high) low = 0;
  const room = Math.max(high - low, high * 0.05, trend.unit === "mos" ? 0.2 : 1e-6);
  high = low + room * 1.08;
  const middle = (s: Step) => new Date(s.at).getTime() + trend.step_s * 500;
  const x = (t: number) => left + ((Math.min(to, Math.max(from, t)) - from) / (to - from)) * (width - left - right);
  const y = (v: number) => height - bottom - ((bare(trend.unit, v) - low) / (high - low)) * (height - top - bottom);
  const runs = together(steps, trend.step_s);
  const now = at === undefined ? undefined : steps[at];
  const point = (e: PointerEvent<SVGSVGElement>) => {
    const box = e.currentTarget.getBoundingClientRect();
    const t = from + ((((e.clientX - box.left) / box.width) * width - left) / (width - left - right)) * (to - from);
    setAt(steps.reduce((best, s, i) => (Math.abs(middle(s) - t) < Math.abs(middle(steps[best]!) - t) ? i : best), 0));
  };
  const key = (e: KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowRight: 1 }[e.key];
    if (!by) return;
    e.preventDefault();
    setAt(Math.min(steps.length - 1, Math.max(0, (at ?? (by > 0 ? -1 : steps.length)) + by)));
  };
  const last = steps[steps.length - 1]!;
  return (
    <figure className="flex flex-col">
      <div ref={box} className="h-48 lg:h-[calc(var(--h)*12.5rem-6.5rem)]">
      <svg viewBox={`0 0 ${width} ${height}`} className="h-full w-full" role="img" tabIndex={0} data-trend={steps.length} onPointerMove={point} onPointerLeave={() => setAt(undefined)} onKeyDown={key} aria-describedby={id}
        aria-label={`${name}, ${steps.length} steps from ${exactly(trend.from_at)} to ${exactly(trend.to_at)}, at last ${says(trend.unit, last.value)}. The arrow keys tell each.`}>
        {ticks(low, high).map((v) => {
          const h = height - bottom - ((v - low) / (high - low)) * (height - top - bottom);
          return (
            <g key={v}>
              <line x1={left} x2={width - right} y1={h} y2={h} stroke="var(--line)" />
              <text x={left - 6} y={h + 4} textAnchor="end" fontSize="12" fill="var(--soft)">
                {v}
              </text>
            </g>
          );
        })}
        <text x={left} y={10} fontSize="12" fill="var(--soft)">
          {unitName[trend.unit]}
        </text>
        {times(from, to, Math.max(2, Math.floor(width / 80))).map((t) => (
          <g key={t}>
            <line x1={x(t)} x2={x(t)} y1={height - bottom} y2={height - bottom + 4} stroke="var(--line)" />
            <text x={x(t)} y={height - bottom + 16} textAnchor="middle" fontSize="12" fill="var(--soft)">
              {label(t, to - from)}
            </text>
          </g>
        ))}
        <text x={width - right} y={height - 4} textAnchor="end" fontSize="12" fill="var(--soft)">
          local time, {localZone}
        </text>
        {runs.map((run) => (
          <g key={run[0]!.at}>
            <polygon fill="var(--ribbon)" points={[...run.map((s) => `${x(middle(s)).toFixed(1)},${y(s.high).toFixed(1)}`), ...run.toReversed().map((s) => `${x(middle(s)).toFixed(1)},${y(s.low).toFixed(1)}`)].join(" ")} />
            <polyline fill="none" stroke="var(--ink)" strokeWidth="1.5" strokeLinecap="round" points={(run.length > 1 ? run : [run[0]!, run[0]!]).map((s, i) => `${(x(middle(s)) + (run.length > 1 ? 0 : i)).toFixed(1)},${y(s.value).toFixed(1)}`).join(" ")} />
          </g>
        ))}
        {now && <line x1={x(middle(now))} x2={x(middle(now))} y1={top} y2={height - bottom} stroke="var(--soft)" strokeDasharray="3 3" />}
        {now && <circle cx={x(middle(now))} cy={y(now.value)} r="3" fill="var(--ink)" />}
      </svg>
      </div>
      <figcaption id={id} className="figures min-h-5 text-sm text-soft" aria-live="polite">
        {now ? `${exactly(now.at)}: ${says(trend.unit, now.value)}, ${says(trend.unit, now.low)} to ${says(trend.unit, now.high)}, ${now.paths === 1 ? "1 path" : `${now.paths} paths`}` : ""}
      </figcaption>
    </figure>
  );
}

/** together are steps without a gap between, so that nothing is drawn that was not measured. */
export function together(steps: Step[], length: number): Step[][] {
  const out: Step[][] = [];
  let end = -Infinity;
  for (const s of steps) {
    const t = new Date(s.at).getTime();
    if (t - end > length * 500) out.push([]);
    out[out.length - 1]!.push(s);
    end = t + length * 1000;
  }
  return out;
}

const hour = 3_600_000;

/** times are round hours or days of this place, at most so many of them. */
function times(from: number, to: number, most: number): number[] {
  const step = [hour / 6, hour / 2, hour, 3 * hour, 6 * hour, 24 * hour, 4 * 24 * hour, 30 * 24 * hour, 90 * 24 * hour].find((s) => (to - from) / s <= most) ?? 365 * 24 * hour;
  const begin = new Date(from);
  begin.setHours(0, 0, 0, 0);
  const list: number[] = [];
  for (let t = begin.getTime(); t < to; t += step) if (t > from + (to - from) * 0.03 && t < to - (to - from) * 0.03) list.push(t);
  return list;
}

const label = (t: number, length: number) => new Intl.DateTimeFormat("en-GB", length > 3 * 24 * hour ? { day: "numeric", month: "short" } : { hour: "2-digit", minute: "2-digit", hour12: false }).format(t);
