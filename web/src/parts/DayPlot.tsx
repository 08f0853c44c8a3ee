import { memo } from "react";
import type { PathSketches } from "../api";

const width = 240;
const height = 40;
const tickRoom = 14;

/**
 * DayPlot is the last day of a path in small: delay in ink over the ribbon of
 * what is normal, loss as plum ticks from the top.
 */
export const DayPlot = memo(function DayPlot({ sketch: trace }: { sketch?: PathSketches[string] }) {
  if (!trace) return <div className="h-10" />;
  const delays = trace.rtt_median_ms ?? [];
  const lows = trace.normal_low_ms ?? [];
  const highs = trace.normal_high_ms ?? [];
  const known = [...delays, ...lows, ...highs].filter((v): v is number => v != null);
  const bottom = Math.min(...known);
  const top = Math.max(...known);
  const room = Math.max(top - bottom, bottom * 0.1, 0.05);
  const x = (i: number) => ((i + 0.5) / delays.length) * width;
  const hour = (i: number) => (i / lows.length) * width;
  const y = (v: number) => height - 2 - ((v - bottom) / room) * (height - tickRoom - 4);
  return (
    <svg viewBox={`0 0 ${width} ${height}`} className="block h-10 w-full md:max-w-60" role="img" preserveAspectRatio="none"
      aria-label={`Delay and loss of the last day${known.length ? `, between ${bottom.toFixed(1)} and ${top.toFixed(1)} ms` : ""}`}>
      {known.length > 0 && <path d={ribbon(lows, highs, hour, y)} fill="var(--ribbon)" />}
      {known.length > 0 && <path d={line(delays, x, y)} fill="none" stroke="var(--ink)" strokeWidth="1.4" vectorEffect="non-scaling-stroke" strokeLinejoin="round" />}
      {(trace.loss_ratio ?? []).map((ratio, i) =>
        ratio ? <line key={i} x1={x(i)} x2={x(i)} y1="0" y2={2.5 + tickRoom * Math.sqrt(ratio)} stroke="var(--plum)" strokeWidth="1.4" vectorEffect="non-scaling-stroke" /> : null,
      )}
    </svg>
  );
});

type Values = readonly (number | null)[];
type Scale = (v: number) => number;

function line(values: Values, x: Scale, y: Scale): string {
  let d = "";
  let drawing = false;
  values.forEach((v, i) => {
    if (v == null) {
      drawing = false;
      return;
    }
    d += `${drawing ? "L" : "M"}${x(i).toFixed(1)} ${y(v).toFixed(1)}`;
    drawing = true;
  });
  return d;
}

/** ribbon is the band of each hour, from its beginning to its end. */
function ribbon(lows: Values, highs: Values, x: Scale, y: Scale): string {
  let forth = "";
  let back = "";
  highs.forEach((high, i) => {
    const low = lows[i];
    if (high == null || low == null) return;
    // The ribbon is never thinner than a hair, so that it can be seen.
    const thin = Math.max(0, 2 - (y(low) - y(high))) / 2;
    const [top, bottom] = [(y(high) - thin).toFixed(1), (y(low) + thin).toFixed(1)];
    const [begins, ends] = [x(i).toFixed(1), x(i + 1).toFixed(1)];
    forth += `${forth ? "L" : "M"}${begins} ${top}L${ends} ${top}`;
    back = `L${ends} ${bottom}L${begins} ${bottom}` + back;
  });
  return forth ? forth + back + "Z" : "";
}
