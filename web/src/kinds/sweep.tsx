import type { Run, SweepReport } from "../api";
import { SweepResult } from "../parts/SweepResult";
import type { Panel } from "./panel";

function Found({ run }: { run: Run }) {
  return (
    <SweepResult
      sweep={{
        from: run.from,
        prefixes: [run.to],
        started_at: run.started_at,
        ended_at: run.ended_at,
        outcome: run.outcome,
        reason: run.reason,
        sent: run.heard,
        of: run.of,
        report: run.outcome === "running" ? undefined : (run.result as SweepReport | undefined),
      }}
    />
  );
}

export const sweep: Panel = {
  label: "Sweep",
  first: ["via", "exclude", "packets_per_second"],
  to: "Prefixes, ranges, addresses",
  hint: "203.0.113.0/24 192.0.2.10-20",
  says: "It goes on at the agent if you leave this page, and is kept under Sweeps. What stays silent is asked a second time.",
  repeat: "1h",
  Found,
};
