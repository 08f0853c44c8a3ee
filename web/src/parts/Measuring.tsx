import { useMutation, useQueries, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type Agent, type Kind, type Run, type Measurement, type Watch } from "../api";
import { panelOf } from "../kinds";
import { valuesOf, words } from "../kinds/values";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { KindForm } from "./KindForm";
import { May } from "../may";

type KindName = NonNullable<Measurement["kind"]>;

const elsewhere = "an address …";

/** Measuring asks for a measurement of a kind at an agent, follows it, shows what it finds, and stops it or has it go on as a watch. */
export function Measuring({ kind, from, to: asked, ids, agents, set }: { kind: Kind; from: string; to: string; ids: string; agents: Agent[]; set: (values: Record<string, string>) => void }) {
  const panel = panelOf(kind.name);
  const client = useQueryClient();
  const [to, setTo] = useState(asked);
  const [form, setForm] = useState<Record<string, string>>(panel.usual ?? {});
  const [key, setKey] = useState("");
  const others = agents.filter((a) => a.name !== from && a.health?.responder).map((a) => a.name);
  const reflector = form["reflector"] === "true";
  const end = kind.two_ends && !reflector && to === "" ? (others[0] ?? "") : to;
  const targets = kind.one_target ? [end.trim()].filter(Boolean) : words(end);
  const how = () => valuesOf((kind.fields ?? []).filter((f) => !f.of_hand), form);
  const start = useMutation({
    mutationFn: () => post<Run[], "/api/v1/runs">("/api/v1/runs", { kind: kind.name as KindName, from, to: targets, ...(key ? { key } : {}), ...how() }),
    onSuccess: (runs) => {
      set({ to: end, runs: runs.map((r) => r.id).join(",") });
      void client.invalidateQueries({ queryKey: ["sweeps"] });
    },
  });
  const repeat = kind.continuous ? undefined : (panel.repeat ?? "1h");
  const watch = useMutation({
    mutationFn: () =>
      post<Watch, "/api/v1/watches">("/api/v1/watches", { name: `${kind.name === "ping" ? "" : kind.name + " of "}${targets.join(", ")} from ${from}`.slice(0, 100), kind: kind.name as KindName, from: [from], to: targets, ...(repeat ? { repeat } : {}), ...standing(how(), kind) }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["paths"] }),
  });
  const runs = useQueries({
    queries: ids
      .split(",")
      .filter(Boolean)
      .map((id) => ({
        queryKey: ["run", id],
        queryFn: () => get<Run>("/runs/" + id),
        refetchInterval: (q: { state: { data?: Run } }) => (q.state.data && q.state.data.outcome !== "running" ? false : 3000),
      })),
  });
  const going = runs.find((q) => q.data?.outcome === "running")?.data;
  const stop = useMutation({ mutationFn: (id: string) => remove("/api/v1/runs/{id}", { id }) });
  const trouble = start.error ?? watch.error ?? stop.error;
  const atAddress = kind.two_ends && !reflector && end !== "" && !others.includes(end);
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        {kind.two_ends && !reflector && others.length > 0 && <Choice above needed label={panel.to} value={others.includes(end) ? end : elsewhere} values={[...others, elsewhere]} onChange={(v) => setTo(v === elsewhere ? "192.0.2.7:7474" : v)} />}
        {(!kind.two_ends || reflector || atAddress || others.length === 0) && <Field wide label={kind.two_ends ? "Its address" : panel.to} value={to} onChange={setTo} hint={kind.two_ends ? "192.0.2.9:862" : panel.hint} />}
        {atAddress && <Field label="Its key" value={key} onChange={setKey} />}
        <KindForm kind={kind} first={panel.first} form={form} change={(name, value) => setForm({ ...form, [name]: value })} />
        <button type="submit" disabled={start.isPending || targets.length === 0 || !from} className={button}>
          Start
        </button>
      </form>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {kind.two_ends && others.length === 0 && !reflector && <p className="text-soft">No other agent answers as a far end. Start one with -listen; the page Agents has the command.</p>}
      {runs.length === 0 && !trouble && <p className="text-soft">{panel.says}</p>}
      <div className={panel.beside ? "grid grid-cols-1 gap-x-12 gap-y-8 pt-2 md:grid-cols-2" : "space-y-6 pt-2"}>
        {runs.map((q) => {
          const run = q.data;
          if (run) return <panel.Found key={run.id} run={run} />;
          return q.error ? (
            <p key={q.error.message} role="alert" className="text-plum">
              {q.error.message}
            </p>
          ) : null;
        })}
      </div>
      {runs.length > 0 && (
        <p className="pt-6">
          {going && (
            <>
              <May call="stop-run"><button type="button" disabled={stop.isPending} onClick={() => stop.mutate(going.id)} className={button}>
                Stop
              </button></May>{" "}
            </>
          )}
          {!reflector && !atAddress && (
            <May call="add-watch"><button type="button" disabled={watch.isPending || watch.isSuccess || targets.length === 0} onClick={() => watch.mutate()} className={button}>
              Watch {targets.length < 2 ? "it" : "them"} {repeat ? `every ${spoken(repeat)}` : "from now on"}
            </button></May>
          )}{" "}
          <span className="text-sm text-soft">{watch.isSuccess ? `The watch “${watch.data.name}” goes on from now${watch.data.probes_per_day ? `: ${Math.round(watch.data.probes_per_day).toLocaleString("en-GB")} packets a day` : ""}.` : !repeat && "A probe a second to each: 86,400 a day."}</span>
        </p>
      )}
    </>
  );
}

/** standing is how a watch measures what was asked for by hand: without a pause it has its own rhythm. */
function standing(how: Record<string, unknown>, kind: Kind): Record<string, unknown> {
  if (!kind.continuous) return how;
  const { probes: _probes, interval: _interval, for: _for, find_path_mtu: _mtu, objective: _objective, ...rest } = how;
  return rest;
}

const spoken = (repeat: string) => ({ "15m": "15 minutes", "1h": "hour", "6h": "6 hours" })[repeat] ?? repeat;
