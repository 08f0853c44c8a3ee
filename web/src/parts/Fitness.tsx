import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Fitness as Fit, type Objective, type Path } from "../api";
import { bits, ms, percent, when } from "../format";
import { Choice } from "./Choice";
import { OverTime } from "./OverTime";
import { OwnObjectives } from "./OwnObjectives";

const names: Record<string, string> = { loss_ratio: "Loss", rtt_ms: "RTT, mean", delay_ms: "Delay one way", jitter_ms: "Jitter", spread_ms: "Mean less least RTT", variation_ms: "Variation one way", mos: "MOS", there_bps: "Rate there", back_bps: "Rate back", availability_ratio: "Availability" };

/** value writes a figure of a measure with its unit. */
export function value(measure: string, v: number): string {
  if (measure.endsWith("_ms")) return `${ms(v)} ms`;
  if (measure.endsWith("_ratio")) return `${percent(v)} %`;
  if (measure.endsWith("_bps")) return bits(v);
  return v.toFixed(2);
}

const spans: Record<string, number> = { "1 d": 1, "7 d": 7, "30 d": 30 };

/** Fitness says how much of the last days a path was within an objective, and what cost most of it. */
export function Fitness({ path }: { path: Path }) {
  const objectives = useQuery({ queryKey: ["objectives"], queryFn: () => get<Objective[]>("/objectives"), staleTime: 60_000 });
  const [name, setName] = useState("");
  const [span, setSpan] = useState("7 d");
  const fit = useQuery({
    queryKey: ["fitness", path.id, name, span],
    queryFn: () => get<Fit>(`/paths/${path.id}/fitness?objective=${encodeURIComponent(name)}&from_at=${new Date(Date.now() - spans[span]! * 86_400_000).toISOString()}`),
    enabled: name !== "",
    placeholderData: keepPreviousData,
  });
  const f = name ? fit.data : undefined;
  const lines = f?.measures ?? [];
  const worst = f?.worst ?? [];
  return (
    <section aria-labelledby="fitness" className="md:col-span-2">
      <h2 id="fitness" className="text-lg">
        Fit for what
      </h2>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pt-2">
        <Choice label="Objective" value={name} values={(objectives.data ?? []).map((o) => o.name)} onChange={setName} none="choose one" />
        <Choice needed label="Over the last" value={span} values={Object.keys(spans)} onChange={setSpan} />
        {f && <strong className="font-normal">{f.within_ratio == null ? "Nothing was measured then." : `${percent(f.within_ratio)} % of the measured time within ${f.objective}`}</strong>}
        {fit.error && <span className="text-plum">{fit.error.message}</span>}
      </div>
      {lines.length > 0 && (
        <table className="figures mt-2 w-full">
          <thead className="text-sm text-soft">
            <tr>
              <th scope="col" className="text-left font-normal">Measure</th>
              <th scope="col" className="text-right font-normal">Limit</th>
              <th scope="col" className="text-right font-normal">Within</th>
              <th scope="col" className="text-right font-normal">Median</th>
              <th scope="col" className="text-right font-normal">Mean</th>
              <th scope="col" className="text-right font-normal">Worst</th>
            </tr>
          </thead>
          {lines.map((l) => (
            <tbody key={l.measure}>
              <tr className="border-t border-line">
                <th scope="row" className="py-1 text-left font-normal">{names[l.measure] ?? l.measure}</th>
                <td className="text-right">{(l.at_least ? "≥ " : "≤ ") + value(l.measure, l.limit)}</td>
                <td className={"text-right " + (l.met ? "" : "text-plum")}>{l.within_ratio == null ? "–" : `${percent(l.within_ratio)} %`}</td>
                <td className="text-right">{value(l.measure, l.median)}</td>
                <td className="text-right">{value(l.measure, l.mean)}</td>
                <td className="text-right">{value(l.measure, l.worst)}</td>
              </tr>
              <tr>
                <td colSpan={6} className="pb-2">
                  <OverTime steps={f?.steps ?? []} measure={l.measure} limit={l.limit} atLeast={l.at_least} says={(v) => value(l.measure, v)} />
                </td>
              </tr>
            </tbody>
          ))}
        </table>
      )}
      {worst.length > 0 && (
        <ul className="pt-3">
          {worst.map((w) => (
            <li key={w.from_at} className="border-l-2 border-line pb-2 pl-3">
              <p>
                {when(w.from_at)} to {when(w.to_at)}: {(names[w.measure] ?? w.measure).toLowerCase()} {value(w.measure, w.value)}
              </p>
              {w.sentence && <p>{w.sentence}</p>}
              {w.advice && <p className="text-soft">{w.advice}</p>}
            </li>
          ))}
        </ul>
      )}
      <OwnObjectives all={objectives.data ?? []} added={setName} />
    </section>
  );
}
