import { Link } from "react-router";
import type { Run } from "../../api";
import type { Panel } from "../panel";
import { Findings } from "../Findings";
import type { Result } from "./types";
import { Evidence } from "./Verdicts";

function Found({ run }: { run: Run }) {
  const result = run.result as Result | undefined;
  const running = run.outcome === "running";
  return (
    <section aria-label={`${run.from} to ${run.to}`}>
      <h2 className="text-lg">
        {run.from} → {run.to}
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {running ? `${run.says || "going on"}${run.of ? `: ${Math.round((100 * run.heard) / run.of)} % done` : ""}` : run.outcome}
        {run.reason && `: ${run.reason}`}{" "}
        <Link to={"/acceptance/" + run.id} className="underline underline-offset-4">
          As a report of its own
        </Link>
      </p>
      {!running && <Findings list={run.findings} />}
      {result?.found && <Evidence result={result} />}
    </section>
  );
}

export const accept: Panel = {
  label: "Acceptance",
  first: ["up_to", "frame_bytes", "cir", "eir", "for", "performance", "throughput_limit", "delay_limit", "loss_limit", "direction", "out_of_service"],
  to: "To",
  hint: "",
  says: "By frame size it fills the circuit, which must carry nothing else then; as a service it sends what was bought. The page Acceptance keeps plans with all that can be said.",
  repeat: "24h",
  Found,
};
