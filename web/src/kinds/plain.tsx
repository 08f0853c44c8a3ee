import type { Run } from "../api";
import { Findings } from "./Findings";
import type { Panel } from "./panel";

/** Found shows what a run of a kind without a panel of its own found: each thing by its name. */
function Found({ run }: { run: Run }) {
  const r = (run.result ?? {}) as Record<string, unknown>;
  const shown = Object.entries(r).filter(([key, v]) => key !== "findings" && v !== null && typeof v !== "object");
  return (
    <section aria-label={`${run.kind} of ${run.to}`}>
      <h2 className="text-lg">
        {run.to} <span className="text-sm text-soft">from {run.from}</span>
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {run.outcome === "running" ? (run.of ? (run.counts ? `${run.heard} of ${run.of} ${run.counts} so far` : `${Math.round((100 * run.heard) / run.of)} % so far`) : "going on") : run.outcome}
        {run.reason && `: ${run.reason}`}
      </p>
      <Findings list={run.findings} />
      <dl className="figures grid grid-cols-[auto_1fr] gap-x-6">
        {shown.map(([key, v]) => (
          <div key={key} className="contents">
            <dt className="text-soft">{key.replaceAll("_", " ")}</dt>
            <dd>{String(v)}</dd>
          </div>
        ))}
      </dl>
    </section>
  );
}

/** plain is the panel of a kind that has none of its own. */
export const plain = (name: string): Panel => ({ label: name, first: [], to: "To", hint: "", says: "", repeat: "1h", Found });
