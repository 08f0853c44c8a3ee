import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, get, type Agent, type Kind, type Watch, type WatchSpec } from "../api";
import { save, when } from "../format";
import { Conversations } from "../parts/Conversations";
import { button } from "../parts/Field";
import { Maintained } from "../parts/Maintained";
import { Trouble } from "../parts/Trouble";
import { WatchEditor } from "../parts/WatchEditor";
import { cost, formOf, fresh, rhythm, type WatchForm } from "../watchForm";
import { May } from "../may";

const link = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";

/** Watches lists what is measured again and again, and makes, changes, copies, pauses and exports it. */
export function Watches() {
  const client = useQueryClient();
  const watches = useQuery({ queryKey: ["watches"], queryFn: () => get<Watch[]>("/watches"), refetchInterval: 15_000 });
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents") });
  const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get<Kind[]>("/kinds"), staleTime: Infinity });
  const [editing, edit] = useState<{ of: string; form: WatchForm } | null>(null);
  const [asked, ask] = useState("");
  const changed = () => {
    void client.invalidateQueries({ queryKey: ["watches"] });
    void client.invalidateQueries({ queryKey: ["paths"] });
  };
  const pause = useMutation({ mutationFn: (w: Watch) => call<Watch>("PATCH", "/watches/" + w.id, { paused: !w.paused }), onSuccess: changed });
  const remove = useMutation({ mutationFn: (w: Watch) => call<void>("DELETE", "/watches/" + w.id), onSuccess: () => { ask(""); changed(); } });
  useEffect(() => {
    document.title = "Watches – Woodlark";
  }, []);
  const all = watches.data ?? [];
  const kindOf = (name: string | undefined) => (kinds.data ?? []).find((k) => k.name === name);
  const first = (kinds.data ?? [])[0]?.name ?? "";
  const copy = (w: Watch): WatchForm => {
    let name = w.name + ", copy";
    for (let n = 2; all.some((x) => x.name === name); n++) name = `${w.name}, copy ${n}`;
    return { ...formOf(w, kindOf(w.kind), kinds.data), name };
  };
  const trouble = pause.error ?? remove.error;
  return (
    <>
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-2 pt-8 pb-6">
        <h1 className="text-2xl font-light md:text-3xl">Watches</h1>
        {!editing && (
          <May call="add-watch"><button type="button" className={button} disabled={!first} onClick={() => edit({ of: "", form: fresh(first, Intl.DateTimeFormat().resolvedOptions().timeZone) })}>
            Add one
          </button></May>
        )}
        {all.length > 0 && (
          <button type="button" className={link} onClick={() => saveAll(all)}>
            Export all
          </button>
        )}
      </div>
      {watches.error && !watches.data && <Trouble error={watches.error} retry={() => void watches.refetch()} />}
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {editing && (
        <WatchEditor key={editing.of + editing.form.name} of={editing.of} start={editing.form} agents={agents.data ?? []} kinds={kinds.data ?? []} targets={[...new Set(all.flatMap((w) => w.to ?? []))]}
          done={() => { edit(null); changed(); }} />
      )}
      <ul>
        {all.map((w) => (
          <li key={w.id} className="grid grid-cols-1 gap-x-8 gap-y-1 border-t border-line py-3 md:grid-cols-[18rem_1fr_1fr_auto]">
            <div>
              <p className={"text-lg " + (w.paused ? "text-soft" : "")}>{w.name}</p>
              <p className="text-sm text-soft">
                {w.kind}, {rhythm(w)}
                {(w.also ?? []).map((p) => `; ${p.kind}, ${rhythm(p)}`).join("")}
                {(w.tags ?? []).length > 0 && `, ${w.tags!.join(", ")}`}
              </p>
            </div>
            <div className="text-sm">
              <p>
                {few(w.from ?? [])} → {few(w.to ?? [])}
                {w.and_back && ", and back"}
              </p>
              <p className="figures text-soft">{cost(w)}</p>
            </div>
            <div className="text-sm">
              <p className={w.says ? "" : "text-soft"}>
                {w.says}
                {w.says && w.next_due_at && ", "}
                {w.next_due_at && `next ${when(w.next_due_at)}`}
              </p>
              {(w.hindered ?? []).map((why) => (
                <p key={why} className="text-plum">
                  {why}
                </p>
              ))}
              {w.last_run && w.last_run.outcome !== "done" && (
                <p className="text-plum">
                  {w.last_run.outcome} {when(w.last_run.started_at)}: {w.last_run.reason}
                </p>
              )}
              {w.last_run?.outcome === "done" && <p className="text-soft">last done {when(w.last_run.started_at)}</p>}
            </div>
            <div className="flex flex-wrap gap-x-4 gap-y-1 self-start">
              <May call="pause-watch"><button type="button" className={link} aria-label={`${w.paused ? "Go on with" : "Pause"} ${w.name}`} onClick={() => pause.mutate(w)}>
                {w.paused ? "Go on" : "Pause"}
              </button></May>
              <May call="change-watch"><button type="button" className={link} aria-label={`Edit ${w.name}`} onClick={() => edit({ of: w.id, form: formOf(w, kindOf(w.kind), kinds.data) })}>
                Edit
              </button></May>
              <May call="add-watch"><button type="button" className={link} aria-label={`Copy ${w.name}`} onClick={() => edit({ of: "", form: copy(w) })}>
                Copy
              </button></May>
              <May call="remove-watch"><button type="button" className={link} aria-label={asked === w.id ? `Remove ${w.name}, really` : `Remove ${w.name}`} onClick={() => (asked === w.id ? remove.mutate(w) : ask(w.id))}>
                {asked === w.id ? "Really remove" : "Remove"}
              </button></May>
            </div>
          </li>
        ))}
      </ul>
      {watches.data && all.length === 0 && !editing && <p className="text-soft">Nothing is watched yet. A watch measures from agents to targets again and again, and tells when it gets worse.</p>}
      <May call="list-conversations"><Conversations /></May>
      <May call="list-maintenance"><Maintained agents={agents.data ?? []} /></May>
    </>
  );
}

const few = (list: string[]) => (list.length > 3 ? `${list.slice(0, 2).join(", ")} and ${list.length - 2} more` : list.join(", "));

/** saveAll has the browser save watches as a file that POST /watches/apply takes. */
function saveAll(all: Watch[]) {
  const watches = all.map(({ id: _id, paths: _paths, probes_per_day: _p, bytes_per_day: _b, rows_per_day: _r, load_s_per_day: _l, next_due_at: _n, last_run: _last, says: _says, hindered: _h, ...spec }) => spec as WatchSpec);
  save(JSON.stringify({ watches }, null, 2), "watches.json", "application/json");
}

