import { Link } from "react-router";
import type { Run } from "../api";
import { ms, percent } from "../format";
import { ShapePlot } from "../parts/ShapePlot";
import { Findings } from "./Findings";
import type { Panel } from "./panel";

function Found({ run }: { run: Run }) {
  const r = run.reading;
  const figures: [string, string, string][] = r
    ? [
        ["Answered", `${r.answered} of ${r.sent}`, ""],
        ["Loss", percent(r.loss_ratio), `% (${percent(r.loss_low_ratio)} to ${percent(r.loss_high_ratio)})`],
        ["RTT, median", ms(r.rtt_median_ms), "ms"],
        ["95 % within", ms(r.rtt_p95_ms), "ms"],
        ["Jitter", ms(r.jitter_ms), "ms"],
      ]
    : [];
  return (
    <section aria-label={`To ${run.to} by ${run.via}`}>
      <h2 className="flex flex-wrap items-baseline gap-x-3 text-lg">
        <Link to={"/paths/" + run.path_id} className="underline-offset-4 hover:underline">
          {run.to}
        </Link>
        <span className="text-sm text-soft">
          IPv{run.family} by {run.via} from {run.from}
        </span>
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {run.outcome === "running" ? `${run.heard} of ${run.of} probes so far` : run.outcome}
      </p>
      {run.reason && <p className={run.outcome === "failed" ? "text-plum" : "text-soft"}>{run.reason}</p>}
      {(run.rtts_ms ?? []).length > 0 && <ShapePlot rtts={run.rtts_ms ?? []} of={run.of} />}
      {r && (
        <dl className="figures mt-2 grid grid-cols-[auto_1fr] gap-x-6 pb-2">
          {figures.map(([what, value, unit]) => (
            <div key={what} className="contents">
              <dt className="text-soft">{what}</dt>
              <dd>
                {value} <span className="font-light text-soft">{value === "–" ? "" : unit}</span>
              </dd>
            </div>
          ))}
        </dl>
      )}
      <Findings list={run.findings} />
    </section>
  );
}

export const ping: Panel = {
  label: "Ping",
  first: ["via", "probes", "interval", "family"],
  usual: { probes: "50", interval: "200ms" },
  to: "To: names or addresses",
  hint: "terminal.holm.example",
  says: "It goes on at the agent if you leave this page, and is kept with its path. By: icmp, tcp:PORT, udp:PORT or stamp; several with commas are compared.",
  Found,
  beside: true,
};
