import type { Run, TraceReport } from "../api";
import { ms, percent } from "../format";
import { RouteGraph } from "../parts/RouteGraph";
import { RouteBranches, RouteChanges, RouteHops } from "../parts/RouteHops";
import { Findings } from "./Findings";
import type { Panel } from "./panel";

function Found({ run }: { run: Run }) {
  const r = run.result as TraceReport | undefined;
  const running = run.outcome === "running";
  return (
    <section aria-label={`Route to ${run.to}`} className="pt-2 pb-6">
      <h2 className="flex flex-wrap items-baseline gap-x-3 text-lg">
        {run.to}
        <span className="text-sm text-soft">
          IPv{run.family} by {run.via} from {run.from}
        </span>
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {running ? `${run.heard} probes answered or given up so far` : run.outcome}
        {run.outcome === "done" && r && `: ${r.reached ? `${(r.hops ?? []).length} hops, ${ms(r.rtt_median_ms)} ms there and back, ${percent(r.loss_ratio)} % lost` : `not reached, ${r.ended}`}`}
        {run.reason && `. ${run.reason}`}
      </p>
      {r && (
        <>
          {r.note && <p className="pb-2 text-soft">{r.note}</p>}
          <Findings list={r.findings} />
          {r.compared?.changed && (
            <div className="pb-3">
              <RouteChanges report={r} />
            </div>
          )}
          <RouteHops report={r} />
          <RouteBranches report={r} />
          {(r.branches ?? []).length > 1 && (
            <div className="pt-4">
              <RouteGraph traces={[{ from: run.from, to: run.to, via: run.via, report: r }]} />
            </div>
          )}
          {r.back && (
            <div className="pt-5">
              <h3 className="pb-1">And back, from {r.back.from}</h3>
              <RouteHops report={r.back} />
            </div>
          )}
        </>
      )}
    </section>
  );
}

export const trace: Panel = {
  label: "Trace",
  first: ["via", "probes", "interval", "family", "both_ways"],
  to: "To: names or addresses",
  hint: "terminal.holm.example",
  says: "It finds the route and all its branches, and where along it delay and loss begin and carry on. More probes tell smaller losses; many routers answer one a second.",
  repeat: "15m",
  Found,
};
