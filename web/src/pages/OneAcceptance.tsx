import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { get, post, remove, type Run } from "../api";
import { exactly, span } from "../format";
import { Findings } from "../kinds/Findings";
import { Evidence, Mark } from "../kinds/accept/Verdicts";
import type { About, Result } from "../kinds/accept/types";
import { amount, pairs, summary } from "../kinds/accept/words";
import { button } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { May } from "../may";

const useRun = (id: string | undefined) =>
  useQuery({ queryKey: ["run", id], queryFn: () => get<Run>("/runs/" + id), enabled: !!id, refetchInterval: (q) => (q.state.data && q.state.data.outcome !== "running" ? false : 2000) });

/** OneAcceptance is one run of an acceptance test, as it goes and in the end; beside another, when one is named. */
export function OneAcceptance() {
  const { id = "" } = useParams();
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const run = useRun(id);
  const other = useRun(search.get("with") ?? undefined);
  const r = run.data;
  const result = r?.result as Result | undefined;
  const title = result?.plan.about?.title || result?.plan.plan || "Acceptance test";
  useEffect(() => {
    document.title = `${title} – Woodlark`;
  }, [title]);
  const stop = useMutation({ mutationFn: () => remove("/api/v1/runs/{id}", { id }), onSuccess: () => run.refetch() });
  const resume = useMutation({ mutationFn: () => post<Run[], "/api/v1/runs/{id}/resume">("/api/v1/runs/{id}/resume", {}, { id }), onSuccess: (list) => void navigate("/acceptance/" + list[0]!.id) });
  if (run.error && !r) return <Trouble error={run.error} retry={() => void run.refetch()} />;
  if (!r) return null;
  const going = r.outcome === "running";
  const done = r.of ? Math.round((100 * r.heard) / r.of) : 0;
  return (
    <>
      <h1 className="pt-8 pb-1 text-2xl font-light md:text-3xl">{title}</h1>
      <p className="pb-4 text-soft">
        {r.from} → {r.to}, {exactly(r.started_at)}
      </p>
      {going ? (
        <div role="status" className="max-w-3xl pb-4">
          <p className="figures">
            {r.says || "going on"}
            {r.of > 0 && `: ${done} % done, about ${span(r.of - r.heard)} left`}
          </p>
          <div className="mt-2 h-1.5 bg-line" aria-hidden="true">
            <div className="h-full bg-ink" style={{ width: done + "%" }} />
          </div>
        </div>
      ) : (
        <>
          <p className="pb-2 text-lg">
            {r.outcome === "done" ? <Mark verdict={result?.found.verdict ?? ""} /> : r.outcome}
            {result && <span className="text-soft">: {summary(result.found)}</span>}
          </p>
          {r.reason && <p className="pb-2">{r.reason}</p>}
          <Findings list={r.findings} />
        </>
      )}
      <p className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pb-6 print:hidden">
        {going && (
          <May call="stop-run"><button type="button" className={button} disabled={stop.isPending} onClick={() => stop.mutate()} title="What was measured is kept, and it can go on from there">
            Pause
          </button></May>
        )}
        {!going && r.outcome !== "done" && result && (
          <May call="resume-run"><button type="button" className={button} disabled={resume.isPending} onClick={() => resume.mutate()}>
            Go on with it
          </button></May>
        )}
        {!going &&
          result &&
          ["html", "pdf", "csv", "json"].map((f) => (
            <a key={f} className="underline underline-offset-4" href={`/api/v1/runs/${id}/file?format=${f}`} target="_blank" rel="noreferrer">
              {f === "html" ? "Report to print" : f.toUpperCase()}
            </a>
          ))}
      </p>
      {(stop.error ?? resume.error) && (
        <p role="alert" className="mb-4 border-l-2 border-plum pl-3">
          {(stop.error ?? resume.error)!.message}
        </p>
      )}
      {result && <OnTheReport about={result.plan.about} />}
      {result && other.data?.result ? <Beside before={other.data} after={r} /> : result?.found && <Evidence result={result} />}
    </>
  );
}

/** OnTheReport is what was said about the test. */
function OnTheReport({ about }: { about?: About }) {
  const rows = (["customer", "order", "place", "technician", "comment"] as const).filter((k) => about?.[k]);
  if (rows.length === 0) return null;
  return (
    <dl className="mb-4 grid grid-cols-[max-content_1fr] gap-x-6">
      {rows.map((name) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd>{about![name]}</dd>
        </div>
      ))}
    </dl>
  );
}

/** Beside lays two runs beside each other, the earlier first. */
function Beside({ before, after }: { before: Run; after: Run }) {
  const [a, b] = before.started_at <= after.started_at ? [before, after] : [after, before];
  const [x, y] = [a.result as Result, b.result as Result];
  const list = pairs(x.found, y.found);
  const better = list.filter((p) => p.better).length;
  const worse = list.filter((p) => p.better === false).length;
  return (
    <section aria-label="Before and after">
      <h2 className="pb-1 text-xl font-light">Before and after</h2>
      <p className="pb-3">
        {list.length === 0 ? "The two have no limit in common: they are runs of different plans." : `Of ${list.length} figures ${better} are better and ${worse} worse than before; before ${summary(x.found)}, after ${summary(y.found)}.`}
      </p>
      {list.length > 0 && (
        <div className="overflow-x-auto">
          <table className="figures text-left">
            <thead>
              <tr className="border-b border-line text-sm text-soft">
                <th scope="col" className="pr-8 pb-1 font-normal">Figure</th>
                <th scope="col" className="pr-8 pb-1 text-right font-normal">{exactly(a.started_at)}</th>
                <th scope="col" className="pr-8 pb-1 text-right font-normal">{exactly(b.started_at)}</th>
                <th scope="col" className="pr-8 pb-1 font-normal">Verdict</th>
              </tr>
            </thead>
            <tbody>
              {list.map((p) => (
                <tr key={p.name + p.unit} className="border-b border-line">
                  <td className="py-1 pr-8">{p.name}</td>
                  <td className="pr-8 text-right">{amount(p.before, p.unit)}</td>
                  <td className="pr-8 text-right">{amount(p.after, p.unit)}</td>
                  <td className="pr-8">
                    <Mark verdict={p.verdicts[0]} /> → <Mark verdict={p.verdicts[1]} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}
