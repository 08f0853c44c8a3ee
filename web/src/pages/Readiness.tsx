import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { get, post, remove, type Agent, type Measurement, type Run, type Watch, type WatchSpec } from "../api";
import { exactly } from "../format";
import { Answer, Evidence } from "../kinds/ready/Answer";
import type { Result } from "../kinds/ready/types";
import { askedIn, kindName, needs, type Asked } from "../kinds/ready/words";
import { Choice } from "../parts/Choice";
import { Field, button } from "../parts/Field";
import { MakeGuestLink } from "../parts/GuestLinks";
import { Tick } from "../parts/KindForm";
import { Trouble } from "../parts/Trouble";
import { Visits } from "../parts/Visits";
import { May } from "../may";

/** ofOnesOwn is the choice of a need that is none of the ready-made ones. */
const ofOnesOwn = "my own";
const sample = `need: till
streams: [{stream: sales, every: 100ms, bytes: 300}]
rate: there 64k back 256k
limits: {rtt: 80ms, loss: 0.5%}`;

type KindName = NonNullable<Measurement["kind"]>;

/** Readiness is one field, one button, one plain answer: is this place fit for that service? */
export function Readiness() {
  const [search, setSearch] = useSearchParams();
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents") });
  const names = (agents.data ?? []).map((a) => a.name);
  const ends = (agents.data ?? []).filter((a) => a.health?.responder).map((a) => a.name);
  const [text, setText] = useState("");
  const [over, setOver] = useState<Partial<Asked>>({});
  const [quick, setQuick] = useState(false);
  const [ownNeed, setOwnNeed] = useState("");
  const read = askedIn(text, names);
  const id = search.get("run") ?? "";
  const run = useQuery({ queryKey: ["run", id], queryFn: () => get<Run>("/runs/" + id), enabled: id !== "", refetchInterval: (q) => (q.state.data && q.state.data.outcome !== "running" ? false : 1500) });
  // What is looked at stands in the form, as long as nothing else is typed.
  const before = text === "" ? run.data : undefined;
  const found = before?.result as Result | undefined;
  const from = over.from ?? (read.from || before?.from || names[0] || "");
  const to = over.to ?? (read.to || before?.to || ends.find((n) => n !== from) || "");
  const own = found?.need.need ?? "";
  const asked: Asked = { need: over.need ?? (read.need || (own in needs ? own : "calls")), seats: over.seats ?? (read.seats || String(found?.found.seats ?? 1)), from, to };
  const needed = asked.need === ofOnesOwn ? ownNeed : asked.need;
  const start = useMutation({
    mutationFn: () => post<Run[], "/api/v1/runs">("/api/v1/runs", { kind: kindName as KindName, from: asked.from, to: [asked.to], need: needed, seats: Number(asked.seats), ...(quick ? { quick } : {}) } as Measurement),
    onSuccess: (runs) => setSearch({ run: runs[0]!.id }),
  });
  useEffect(() => {
    document.title = "Readiness – Woodlark";
  }, []);
  if (agents.error && !agents.data) return <Trouble error={agents.error} retry={() => void agents.refetch()} />;
  const choose = (values: Partial<Asked>) => setOver({ ...over, ...values });
  return (
    <>
      <h1 className="pt-8 pb-1 text-2xl font-light md:text-3xl">Readiness</h1>
      <p className="max-w-2xl pb-4 text-soft">Is this place fit for that service, and for how many at once? It is measured from near to far, and answered in one sentence.</p>
      <May call="start-runs"><form className="border-y border-line py-4" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <Field wide label="For what, for how many, from where, to where" value={text} onChange={(v) => { setText(v); setOver({}); }} hint={`calls for 40 from ${names[0] ?? "northquay"} to ${ends.find((n) => n !== names[0]) ?? "ticketing"}`} />
        <div className="flex flex-wrap items-end gap-x-6 gap-y-4 pt-4" role="group" aria-label="Understood as">
          <Choice above needed label="Service" value={asked.need} values={[...Object.keys(needs), ofOnesOwn]} onChange={(need) => choose({ need })} />
          <Field label="Seats" value={asked.seats} onChange={(seats) => choose({ seats })} hint="1" />
          <Choice above needed label="From" value={asked.from} values={names} onChange={(v) => choose({ from: v })} />
          <Field label="To" value={asked.to} onChange={(v) => choose({ to: v })} hint="an agent, or ADDRESS:PORT" title={`Agents that answer: ${ends.join(", ")}`} />
          <Tick label="Within 20 s" on={quick} set={setQuick} />
          <button type="submit" className={button} disabled={start.isPending || !asked.from || !asked.to || !needed.trim() || run.data?.outcome === "running"}>
            Is it fit?
          </button>
        </div>
        {asked.need === ofOnesOwn ? (
          <label className="block pt-4">
            <span className="block pb-1 text-sm text-soft">What it asks, as a file of a need has it</span>
            <textarea className="figures block w-full max-w-2xl border border-line bg-sheet p-2" rows={5} spellCheck={false} placeholder={sample} value={ownNeed} onChange={(e) => setOwnNeed(e.target.value)} />
          </label>
        ) : (
          <p className="pt-2 text-sm text-soft">{needs[asked.need]}</p>
        )}
      </form></May>
      {start.error && (
        <p role="alert" className="mt-4 border-l-2 border-plum pl-3">
          {start.error.message}
        </p>
      )}
      {run.error && !run.data && <Trouble error={run.error} retry={() => void run.refetch()} />}
      {run.data && <Found run={run.data} again={() => void run.refetch()} asked={asked} needed={needed} />}
      <May call="list-visits"><Visits need={needed} seats={Number(asked.seats) || 1} /></May>
    </>
  );
}

function Found({ run, again, asked, needed }: { run: Run; again: () => void; asked: Asked; needed: string }) {
  const result = run.result as Result | undefined;
  const going = run.outcome === "running";
  const done = run.of ? Math.round((100 * run.heard) / run.of) : 0;
  const watch = useMutation({
    mutationFn: () => post<Watch, "/api/v1/watches">("/api/v1/watches", { name: `ready for ${asked.need}: ${run.from} to ${run.to}`.slice(0, 100), kind: kindName as KindName, from: [run.from], to: [run.to], repeat: "6h", need: needed, seats: Number(asked.seats), quick: true } as WatchSpec),
  });
  const stop = useMutation({ mutationFn: () => remove("/api/v1/runs/{id}", { id: run.id }), onSuccess: again });
  return (
    <section aria-label="The answer" className="pt-5">
      <p className="pb-2 text-sm text-soft">
        {run.from} → {run.to}, {exactly(run.started_at)}
      </p>
      {going && (
        <div role="status" className="max-w-3xl pb-4">
          <p className="figures pb-2">{run.says || "going on"}</p>
          <div className="mb-3 h-1.5 bg-line" aria-hidden="true">
            <div className="h-full bg-ink" style={{ width: done + "%" }} />
          </div>
          <May call="stop-run"><button type="button" className={button} disabled={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </button></May>
        </div>
      )}
      {!going && !result && <p>{run.reason || run.outcome}</p>}
      {result?.found && (
        <>
          <Answer result={result} />
          {!going && (
            <p className="flex flex-wrap gap-x-6 gap-y-2 pb-2 print:hidden">
              {["html", "pdf", "csv", "json"].map((f) => (
                <a key={f} className="underline underline-offset-4" href={`/api/v1/runs/${run.id}/file?format=${f}`} target="_blank" rel="noreferrer">
                  {f === "html" ? "Report to print" : f.toUpperCase()}
                </a>
              ))}
              <May call="add-watch"><button type="button" className="cursor-pointer underline underline-offset-4" disabled={watch.isPending || watch.isSuccess} onClick={() => watch.mutate()}>
                {watch.isSuccess ? "It is asked every 6 hours now" : "Ask every 6 hours"}
              </button></May>
            </p>
          )}
          {watch.error && (
            <p role="alert" className="mb-2 border-l-2 border-plum pl-3">
              {watch.error.message}
            </p>
          )}
          {!going && <MakeGuestLink what="run" subject={run.id} titled="Is Northquay ready for calls?" />}
          <Evidence result={result} />
        </>
      )}
    </section>
  );
}
