import { useMutation, useQueries, useQuery, useQueryClient } from "@tanstack/react-query";
import { Radio, RadioGroup } from "@headlessui/react";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, get, type Agent, type Run, type Sweep, type WalkReport, type Watch } from "../api";
import { ms, percent } from "../format";
import { Choice } from "../parts/Choice";
import { ShapePlot } from "../parts/ShapePlot";
import { Tracing } from "../parts/Tracing";
import { SweepResult } from "../parts/SweepResult";
import { Field, button, words, type Part } from "../parts/Field";
import { TwoEnds } from "../parts/TwoEnds";
import { Trouble } from "../parts/Trouble";

/** Measure asks for a ping or a sweep at an agent, and shows what comes as it comes. */
export function Measure() {
  const [search, setSearch] = useSearchParams();
  const kind = ["trace", "throughput", "stream", "sweep", "walk"].find((k) => k === search.get("kind")) ?? "ping";
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents") });
  const names = (agents.data ?? []).map((a) => a.name);
  const from = search.get("from") || names[0] || "";
  const set = (values: Record<string, string>) =>
    setSearch(
      (old) => {
        for (const [k, v] of Object.entries(values)) v ? old.set(k, v) : old.delete(k);
        return old;
      },
      { replace: true },
    );
  useEffect(() => {
    document.title = "Measure – Woodlark";
  }, []);
  return (
    <>
      <h1 className="pt-8 pb-6 text-2xl font-light md:text-3xl">Measure</h1>
      <div className="flex flex-wrap items-baseline gap-x-8 gap-y-3 border-b border-line pb-3">
        <RadioGroup value={kind} onChange={(k) => setSearch({ kind: k, from })} aria-label="Kind of measurement" className="flex flex-wrap gap-x-2">
          {[
            ["ping", "Ping"],
            ["trace", "Trace"],
            ["throughput", "Throughput"],
            ["stream", "Stream"],
            ["sweep", "Sweep"],
            ["walk", "Near to far"],
          ].map(([k, name]) => (
            <Radio key={k} value={k} className="cursor-pointer px-2 py-1 text-soft data-checked:text-ink data-checked:underline data-checked:decoration-ochre data-checked:decoration-2 data-checked:underline-offset-8">
              {name}
            </Radio>
          ))}
        </RadioGroup>
        <Choice needed label="From" value={from} values={names} onChange={(v) => set({ from: v })} />
      </div>
      {agents.error && !agents.data && <Trouble error={agents.error} retry={() => void agents.refetch()} />}
      {kind === "ping" && <Ping key={from} from={from} to={search.get("to") ?? ""} ids={search.get("runs") ?? ""} set={set} />}
      {kind === "trace" && <Tracing key={from} from={from} to={search.get("to") ?? ""} ids={search.get("traces") ?? ""} set={set} />}
      {(kind === "throughput" || kind === "stream") && <TwoEnds key={kind + from} kind={kind} from={from} to={search.get("to") ?? ""} id={search.get("two") ?? ""} agents={agents.data ?? []} set={set} />}
      {kind === "sweep" && <Sweeping from={from} to={search.get("to") ?? ""} id={search.get("sweep") ?? ""} set={set} />}
      {kind === "walk" && <Walking from={from} to={search.get("to") ?? ""} />}
    </>
  );
}

function Ping({ from, to: asked, ids, set }: Part & { ids: string }) {
  const [to, setTo] = useState(asked);
  const [via, setVia] = useState("icmp");
  const [probes, setProbes] = useState("50");
  const [interval, setInterval] = useState("200ms");
  const [family, setFamily] = useState("4");
  const client = useQueryClient();
  const start = useMutation({
    mutationFn: () => call<Run[]>("POST", "/runs", { from, to: words(to), via: words(via).join(","), family, probes: Number(probes), interval }),
    onSuccess: (runs) => set({ to, runs: runs.map((r) => r.id).join(",") }),
  });
  const watch = useMutation({
    mutationFn: () => call<Watch>("POST", "/watches", { name: `${words(to).join(", ")} from ${from}`.slice(0, 100), from: [from], to: words(to), via: words(via).join(","), family }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["paths"] }),
  });
  const runs = useQueries({
    queries: ids
      .split(",")
      .filter(Boolean)
      .map((id) => ({
        queryKey: ["run", id],
        queryFn: () => get<Run>("/runs/" + id),
        refetchInterval: (q: { state: { data?: Run } }) => (q.state.data && q.state.data.outcome !== "running" ? false : 300),
      })),
  });
  const trouble = start.error ?? watch.error;
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <Field wide label="To: names or addresses" value={to} onChange={setTo} hint="terminal.holm.example" />
        <Field label="By" value={via} onChange={setVia} hint="icmp, tcp:443" />
        <Field label="Probes" value={probes} onChange={setProbes} />
        <Field label="Every" value={interval} onChange={setInterval} />
        <Choice needed label="Family" value={family} values={["4", "6", "both"]} onChange={setFamily} />
        <button type="submit" disabled={start.isPending || words(to).length === 0 || !from} className={button}>
          Start
        </button>
      </form>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {runs.length === 0 && !trouble && (
        <p className="text-soft">It goes on at the agent if you leave this page, and is kept with its path. By: icmp, tcp:PORT, udp:PORT or stamp; several with commas are compared.</p>
      )}
      <div className="grid grid-cols-1 gap-x-12 gap-y-8 pt-2 md:grid-cols-2">{runs.map((q, i) => (q.data ? <OneRun key={q.data.id} run={q.data} /> : q.error ? <p key={i} role="alert" className="text-plum">{q.error.message}</p> : null))}</div>
      {runs.length > 0 && (
        <p className="pt-6">
          <button type="button" disabled={watch.isPending || watch.isSuccess || words(to).length === 0} onClick={() => watch.mutate()} className={button}>
            Watch {words(to).length === 1 ? "it" : "them"} from now on
          </button>{" "}
          <span className="text-sm text-soft">
            {watch.isSuccess ? `The watch “${watch.data.name}” measures it once a second: ${Math.round(watch.data.probes_per_day ?? 0).toLocaleString("en-GB")} probes a day.` : "A probe a second to each: 86,400 a day."}
          </span>
        </p>
      )}
    </>
  );
}

function OneRun({ run }: { run: Run }) {
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
        <dl className="figures mt-2 grid grid-cols-[auto_1fr] gap-x-6">
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
      <ul className="mt-2 space-y-2">
        {(run.findings ?? []).map((f) => (
          <li key={f.code} className="border-l-2 border-line pl-3">
            {f.sentence} <span className="text-sm text-soft">{f.advice}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Sweeping({ from, to: asked, id, set }: Part & { id: string }) {
  const [to, setTo] = useState(asked);
  const [via, setVia] = useState("icmp");
  const [exclude, setExclude] = useState("");
  const [rate, setRate] = useState("5000");
  const client = useQueryClient();
  const order = () => ({ to: words(to), exclude: words(exclude), via: words(via).join(","), packets_per_second: Number(rate) });
  const start = useMutation({
    mutationFn: () => call<Sweep>("POST", "/sweeps", { from, ...order() }),
    onSuccess: (s) => {
      set({ to, sweep: s.id });
      void client.invalidateQueries({ queryKey: ["sweeps"] });
    },
  });
  const watch = useMutation({
    mutationFn: () => call<Watch>("POST", "/watches", { kind: "sweep", name: `sweep of ${words(to).join(", ")} from ${from}`.slice(0, 100), from: [from], every: "1h", ...order() }),
  });
  const one = useQuery({
    queryKey: ["sweeps", id],
    queryFn: () => get<Sweep>("/sweeps/" + id),
    enabled: id !== "",
    refetchInterval: (q) => (q.state.data && q.state.data.outcome !== "running" ? false : 300),
  });
  const trouble = start.error ?? watch.error ?? one.error;
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <Field wide label="Prefixes, ranges, addresses" value={to} onChange={setTo} hint="203.0.113.0/24 192.0.2.10-20" />
        <Field label="By" value={via} onChange={setVia} hint="icmp, tcp:443" />
        <Field label="Leave out" value={exclude} onChange={setExclude} />
        <Field label="Packets a second" value={rate} onChange={setRate} />
        <button type="submit" disabled={start.isPending || words(to).length === 0 || !from} className={button}>
          Start
        </button>
      </form>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {!id && !trouble && <p className="text-soft">It goes on at the agent if you leave this page, and is kept under Sweeps.</p>}
      {one.data && <SweepResult sweep={one.data} />}
      {one.data && (
        <p className="pt-6">
          <button type="button" disabled={watch.isPending || watch.isSuccess || words(to).length === 0} onClick={() => watch.mutate()} className={button}>
            Sweep it every hour
          </button>{" "}
          <span className="text-sm text-soft">{watch.isSuccess && `The watch “${watch.data.name}” sends ${Math.round(watch.data.probes_per_day ?? 0).toLocaleString("en-GB")} packets a day, and as many again to what stays silent.`}</span>
        </p>
      )}
    </>
  );
}

const stepNames: Record<string, string> = { way: "Way", neighbour: "Neighbour", gateway: "Gateway", resolver: "Resolver", address: "Address", name: "Name", port: "Port" };

function Walking({ from, to: asked }: { from: string; to: string }) {
  const [to, setTo] = useState(asked);
  const [port, setPort] = useState("");
  const walk = useMutation({ mutationFn: () => call<WalkReport>("POST", "/walks", { from, to: to.trim(), ...(port ? { port: Number(port) } : {}) }) });
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); walk.mutate(); }}>
        <Field wide label="To: a name or an address" value={to} onChange={setTo} hint="app.ticketing.example" />
        <Field label="TCP port" value={port} onChange={setPort} hint="443" />
        <button type="submit" disabled={walk.isPending || !to.trim() || !from} className={button}>
          Start
        </button>
      </form>
      {walk.error && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {walk.error.message}
        </p>
      )}
      {walk.isPending && <p role="status">On the way: some seconds, more where something does not answer.</p>}
      {!walk.data && !walk.isPending && !walk.error && <p className="text-soft">The neighbour, the gateway, each resolver, the target by its address, by its name and by a port: it stops explaining where it breaks.</p>}
      {walk.data && (
        <section aria-label="From near to far">
          <ol>
            {(walk.data.steps ?? []).map((s, i) => (
              <li key={i} className="grid grid-cols-[1.5rem_7rem_minmax(0,1fr)] items-baseline border-t border-line py-1.5">
                <StepMark good={s.good} />
                <span className="text-soft">{stepNames[s.step] ?? s.step}</span>
                <span>
                  {s.about} <span className="text-soft">{s.says}{s.took_ms != null && ` in ${ms(s.took_ms)} ms`}</span>
                </span>
              </li>
            ))}
          </ol>
          <ul className="mt-5 space-y-3">
            {(walk.data.findings ?? []).map((f) => (
              <li key={f.code} className="border-l-2 border-line pl-3">
                <p>{f.sentence}</p>
                <p className="text-sm text-soft">{f.advice}</p>
              </li>
            ))}
            {(walk.data.findings ?? []).length === 0 && <li className="border-l-2 border-line pl-3">Nothing is wrong from here to there, as far as these probes tell.</li>}
          </ul>
        </section>
      )}
    </>
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
