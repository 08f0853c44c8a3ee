import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type Agent, type Maintenance } from "../api";
import { when } from "../format";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { Moment } from "./WatchEditor";
import { May } from "../may";

/** Maintained lists when work is done, and plans more: paths are measured then, but not judged. */
export function Maintained({ agents }: { agents: Agent[] }) {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["maintenance"], queryFn: () => get<Maintenance[]>("/maintenance"), refetchInterval: 60_000 });
  const [name, setName] = useState("");
  const [site, setSite] = useState("");
  const [from, setFrom] = useState("");
  const [until, setUntil] = useState("");
  const changed = () => void client.invalidateQueries({ queryKey: ["maintenance"] });
  const add = useMutation({
    mutationFn: () => post<Maintenance, "/api/v1/maintenance">("/api/v1/maintenance", { name, ...(site ? { site } : {}), from_at: new Date(from).toISOString(), until_at: new Date(until).toISOString() }),
    onSuccess: () => { setName(""); changed(); },
  });
  const drop = useMutation({ mutationFn: (id: string) => remove("/api/v1/maintenance/{maintenance}", { maintenance: id }), onSuccess: changed });
  const sites = [...new Set(agents.map((a) => a.site ?? "").filter(Boolean))];
  const trouble = add.error ?? drop.error;
  return (
    <section aria-labelledby="maintenance" className="mt-8 border-t border-line pt-6">
      <h2 id="maintenance" className="text-lg">
        Maintenance
      </h2>
      <p className="text-soft">Paths are measured then, but neither judged nor learnt from.</p>
      <ul className="pt-2">
        {(list.data ?? []).map((m) => (
          <li key={m.id} className="flex flex-wrap gap-x-6 gap-y-1 border-t border-line py-2">
            <span className="min-w-60">{m.name}</span>
            <span className="text-soft">{[m.site, m.agent, m.target, m.tag].filter(Boolean).join(", ") || "all paths"}</span>
            <span className={m.now ? "" : "text-soft"}>
              {m.next ? `${m.now ? "now, until " + when(m.next.to_at) : `${when(m.next.from_at)} to ${when(m.next.to_at)}`}${m.next_name && m.next_name !== m.name ? `: ${m.next_name}` : ""}` : "over"}
              {m.cron && `, again at ${m.cron}`}
            </span>
            <May call="remove-maintenance"><button type="button" className="ml-auto cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink" aria-label={`Remove maintenance ${m.name}`} onClick={() => drop.mutate(m.id)}>
              Remove
            </button></May>
          </li>
        ))}
      </ul>
      <May call="add-maintenance"><form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-4" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field label="Name of the work" value={name} onChange={setName} />
        {sites.length > 0 && <Choice above label="Site" value={site} values={sites} onChange={setSite} />}
        <Moment label="From" value={from} onChange={setFrom} />
        <Moment label="Until" value={until} onChange={setUntil} />
        <button type="submit" className={button} disabled={!name.trim() || !from || !until || add.isPending}>
          Plan it
        </button>
      </form></May>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
    </section>
  );
}
