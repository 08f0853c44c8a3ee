import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Baseline } from "../api";
import { bits, ms, percent } from "../format";

const width = 672;
const height = 120;
const names: Record<string, string> = { rtt: "RTT", jitter: "jitter", loss: "loss", mos: "MOS", throughput_there: "throughput there", throughput_back: "throughput back", delay_there: "delay there", delay_back: "delay back", jitter_there: "jitter there", jitter_back: "jitter back" };
const days = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

const write = (unit: string, v: number) => (unit === "ms" ? `${ms(v)} ms` : unit === "ratio" ? `${percent(v)} %` : unit === "bps" ? bits(v) : v.toFixed(2));

/** WeekPlot draws what is normal by the hour of the week, from Monday on: the middle in its band. */
export function WeekPlot({ id }: { id: string }) {
  const baseline = useQuery({ queryKey: ["path", id, "baseline"], queryFn: () => get<Baseline>(`/paths/${id}/baseline`), retry: false, staleTime: 300_000 });
  const [chosen, choose] = useState("rtt");
  const measures = (baseline.data?.measures ?? []).filter((m) => (m.week ?? []).length === 168);
  const m = measures.find((x) => x.measure === chosen) ?? measures[0];
  if (!m) return null;
  const week = [...m.week!.slice(24), ...m.week!.slice(0, 24)];
  const top = Math.max(...week.map((h) => h.high)) * 1.05 || 1;
  const least = Math.min(...week.map((h) => h.low));
  const bottom = least > 0.6 * top ? least * 0.98 : 0;
  const x = (i: number) => ((i + 0.5) / 168) * width;
  const y = (v: number) => height - ((v - bottom) / (top - bottom)) * height;
  const line = week.map((h, i) => `${x(i).toFixed(1)},${y(h.median).toFixed(1)}`).join(" ");
  const band = [...week.map((h, i) => `${x(i).toFixed(1)},${y(h.high).toFixed(1)}`), ...week.map((_, i) => `${x(167 - i).toFixed(1)},${y(week[167 - i]!.low).toFixed(1)}`)].join(" ");
  return (
    <div className="mt-4">
      <label className="text-sm text-soft">
        By the hour of the week{" "}
        <select value={m.measure} onChange={(e) => choose(e.target.value)} className="cursor-pointer border-b border-line bg-transparent py-1 text-ink">
          {measures.map((o) => (
            <option key={o.measure} value={o.measure}>
              {names[o.measure] ?? o.measure}
            </option>
          ))}
        </select>
      </label>
      <svg viewBox={`0 -14 ${width} ${height + 34}`} className="mt-1 w-full" role="img" data-week={m.measure}
        aria-label={`Normal ${names[m.measure] ?? m.measure} by the hour of the week: ${write(m.unit, least)} at the least, ${write(m.unit, top / 1.05)} at the most, over all ${write(m.unit, m.overall.median)}`}>
        {days.map((d, i) => (
          <g key={d}>
            <line x1={(i * width) / 7} x2={(i * width) / 7} y1="0" y2={height} stroke="var(--line)" />
            <text x={(i * width) / 7 + 4} y={height + 14} fontSize="12" fill="var(--soft)">
              {d}
            </text>
          </g>
        ))}
        <line x1="0" x2={width} y1={height} y2={height} stroke="var(--line)" />
        <polygon points={band} fill="var(--ribbon)" />
        <polyline points={line} fill="none" stroke="var(--ink)" strokeWidth="1.4" />
        <text x="2" y="-3" fontSize="12" fill="var(--soft)">
          {write(m.unit, top / 1.05)}
        </text>
        {bottom > 0 && (
          <text x={width - 2} y={height - 4} fontSize="12" textAnchor="end" fill="var(--soft)">
            from {write(m.unit, bottom)}
          </text>
        )}
      </svg>
      <ul className="text-sm text-soft">
        {(m.recurs ?? []).map((r) => (
          <li key={r.from + (r.weekdays ?? []).join()}>
            Expected {(r.weekdays ?? []).map((d) => d.slice(0, 3)).join(", ")} {r.from} to {r.to}: up to {write(m.unit, r.shift)} worse.
          </li>
        ))}
      </ul>
    </div>
  );
}
