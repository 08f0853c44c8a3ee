import { useMutation, useQueries } from "@tanstack/react-query";
import { useState } from "react";
import { call, get, type Trace, type Watch } from "../api";
import { ms, percent } from "../format";
import { Choice } from "./Choice";
import { Field, button, words, type Part } from "./Field";
import { RouteGraph } from "./RouteGraph";
import { RouteBranches, RouteChanges, RouteHops } from "./RouteHops";

/** Tracing asks for traces at an agent, and shows the hops as they answer. */
export function Tracing({ from, to: asked, ids, set }: Part & { ids: string }) {
  const [to, setTo] = useState(asked);
  const [via, setVia] = useState("icmp");
  const [probes, setProbes] = useState("5");
  const [interval, setInterval] = useState("1s");
  const [family, setFamily] = useState("4");
  const [both, setBoth] = useState(false);
  const order = () => ({ to: words(to), via: via === "udp" ? "udp:33434" : via, family, probes: Number(probes), interval });
  const start = useMutation({
    mutationFn: () => call<Trace[]>("POST", "/traces", { from, ...order(), both_ways: both }),
    onSuccess: (list) => set({ to, traces: list.map((t) => t.id).join(",") }),
  });
  const watch = useMutation({
    mutationFn: () => call<Watch>("POST", "/watches", { kind: "trace", name: `route to ${words(to).join(", ")} from ${from}`.slice(0, 100), from: [from], every: "15m", ...order() }),
  });
  const traces = useQueries({
    queries: ids
      .split(",")
      .filter(Boolean)
      .map((id) => ({
        queryKey: ["traces", id],
        queryFn: () => get<Trace>("/traces/" + id),
        refetchInterval: (q: { state: { data?: Trace } }) => (q.state.data && q.state.data.outcome !== "running" ? false : 400),
      })),
  });
  const trouble = start.error ?? watch.error;
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <Field wide label="To: names or addresses" value={to} onChange={setTo} hint="terminal.holm.example" />
        <Field label="By" value={via} onChange={setVia} hint="icmp, udp, tcp:443" />
        <Field label="Probes to each hop" value={probes} onChange={setProbes} />
        <Field label="Every" value={interval} onChange={setInterval} />
        <Choice needed label="Family" value={family} values={["4", "6", "both"]} onChange={setFamily} />
        <label className="flex items-center gap-2 pb-1.5 text-sm text-soft">
          <input type="checkbox" checked={both} onChange={(e) => setBoth(e.target.checked)} className="size-4 accent-ochre" />
          and back
        </label>
        <button type="submit" disabled={start.isPending || words(to).length === 0 || !from} className={button}>
          Start
        </button>
      </form>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {traces.length === 0 && !trouble && <p className="text-soft">It finds the route and all its branches, and where along it delay and loss begin and carry on. More probes tell smaller losses; many routers answer one a second.</p>}
      {traces.map((q, i) => (q.data ? <OneTrace key={q.data.id} trace={q.data} /> : q.error ? <p key={i} role="alert" className="text-plum">{q.error.message}</p> : null))}
      {traces.length > 0 && (
        <p className="pt-6">
          <button type="button" disabled={watch.isPending || watch.isSuccess || words(to).length === 0} onClick={() => watch.mutate()} className={button}>
            Trace {words(to).length === 1 ? "it" : "them"} every 15 minutes
          </button>{" "}
          <span className="text-sm text-soft">{watch.isSuccess && `The watch “${watch.data.name}” sends about ${Math.round(watch.data.probes_per_day ?? 0).toLocaleString("en-GB")} probes a day.`}</span>
        </p>
      )}
    </>
  );
}

function OneTrace({ trace: t }: { trace: Trace }) {
  const r = t.report;
  return (
    <section aria-label={`Route to ${t.to}`} className="pt-2 pb-6">
      <h2 className="flex flex-wrap items-baseline gap-x-3 text-lg">
        {t.to}
        <span className="text-sm text-soft">
          IPv{t.family} by {t.via} from {t.from}
        </span>
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {t.outcome === "running" ? `${t.heard} probes answered or given up so far` : t.outcome}
        {t.outcome === "done" && r && `: ${r.reached ? `${(r.hops ?? []).length} hops, ${ms(r.rtt_median_ms)} ms there and back, ${percent(r.loss_ratio)} % lost` : `not reached, ${r.ended}`}`}
        {t.reason && `. ${t.reason}`}
      </p>
      {r && (
        <>
          {r.note && <p className="pb-2 text-soft">{r.note}</p>}
          <ul className="space-y-2 pb-3">
            {(r.findings ?? []).map((f) => (
              <li key={f.code + f.sentence} className="border-l-2 border-line pl-3">
                {f.sentence} <span className="text-sm text-soft">{f.advice}</span>
              </li>
            ))}
          </ul>
          {r.compared?.changed && <div className="pb-3"><RouteChanges report={r} /></div>}
          <RouteHops report={r} />
          <RouteBranches report={r} />
          {(r.branches ?? []).length > 1 && <div className="pt-4"><RouteGraph traces={[t]} /></div>}
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
