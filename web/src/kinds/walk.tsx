import type { Run, WalkReport } from "../api";
import { ms } from "../format";
import { Findings } from "./Findings";
import type { Panel } from "./panel";

const stepNames: Record<string, string> = { way: "Way", neighbour: "Neighbour", gateway: "Gateway", resolver: "Resolver", address: "Address", name: "Name", port: "Port" };

function Found({ run }: { run: Run }) {
  const r = run.result as WalkReport | undefined;
  return (
    <section aria-label="From near to far">
      <h2 className="text-lg">
        {run.to} <span className="text-sm text-soft">from {run.from}</span>
      </h2>
      <p role="status" className="pb-2 text-sm text-soft">
        {run.outcome === "running" ? "On the way: some seconds, more where something does not answer." : run.outcome}
        {run.reason && `: ${run.reason}`}
      </p>
      <ol>
        {(r?.steps ?? []).map((s) => (
          <li key={s.step + s.about} className="grid grid-cols-[1.5rem_7rem_minmax(0,1fr)] items-baseline border-t border-line py-1.5">
            <StepMark good={s.good} />
            <span className="text-soft">{stepNames[s.step] ?? s.step}</span>
            <span>
              {s.about}{" "}
              <span className="text-soft">
                {s.says}
                {s.took_ms != null && ` in ${ms(s.took_ms)} ms`}
              </span>
            </span>
          </li>
        ))}
      </ol>
      {run.outcome !== "running" && r && (
        <div className="mt-5">
          <Findings list={r.findings} />
          {(r.findings ?? []).length === 0 && <p className="border-l-2 border-line pl-3">Nothing is wrong from here to there, as far as these probes tell.</p>}
        </div>
      )}
    </section>
  );
}

/** StepMark says by shape and word how a step went. */
function StepMark({ good }: { good: boolean | null }) {
  const word = good === null ? "cannot be told" : good ? "good" : "breaks here";
  return (
    <span className={good === false ? "text-plum" : good ? "text-ink" : "text-soft"} title={word}>
      <svg viewBox="0 0 16 16" className="inline size-4 align-[-0.15em]" fill="none" stroke="currentColor" strokeWidth="1.75" role="img" aria-label={word}>
        {good === true && <path d="M3 8.5 6.5 12 13 4.5" />}
        {good === false && <path d="M4 4l8 8M12 4l-8 8" />}
        {good === null && <circle cx="8" cy="8" r="4.5" strokeDasharray="1.6 2" />}
      </svg>
    </span>
  );
}

export const walk: Panel = {
  label: "Near to far",
  first: ["port"],
  to: "To: a name or an address",
  hint: "app.ticketing.example",
  says: "The neighbour, the gateway, each resolver, the target by its address, by its name and by a port: it stops explaining where it breaks.",
  repeat: "1h",
  Found,
};
