import { Link } from "react-router";
import type { Run } from "../../api";
import type { Panel } from "../panel";
import { Answer, Evidence } from "./Answer";
import type { Result } from "./types";

function Found({ run }: { run: Run }) {
  const result = run.result as Result | undefined;
  const running = run.outcome === "running";
  return (
    <section aria-label={`${run.from} to ${run.to}`}>
      <h2 className="text-lg">
        {run.from} → {run.to}
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {running ? `${run.says || "going on"}${run.of ? `: ${Math.round((100 * run.heard) / run.of)} %` : ""}` : run.outcome}
        {run.reason && `: ${run.reason}`}{" "}
        <Link to={`/readiness?run=${run.id}`} className="underline underline-offset-4">
          On a page of its own
        </Link>
      </p>
      {result?.found && (
        <>
          <Answer result={result} />
          <Evidence result={result} />
        </>
      )}
    </section>
  );
}

export const ready: Panel = {
  label: "Readiness",
  first: ["need", "seats", "quick"],
  usual: { need: "calls" },
  to: "To",
  hint: "",
  says: "It looks from near to far at what the service needs, fills the way for a few seconds where it has to, and gives one answer.",
  repeat: "6h",
  Found,
};
