import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, get, type Agent, type Invite } from "../api";
import { ago, exactly, ms, percent } from "../format";
import { Field, button } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { May } from "../may";

const where: Record<string, string> = { builtin: "in the service", simulated: "simulated", remote: "another machine" };

/** Agents says where agents are and how they stand, and how to add one. */
export function Agents() {
  const client = useQueryClient();
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents"), refetchInterval: 10_000 });
  const [asked, setAsked] = useState("");
  const remove = useMutation({
    mutationFn: (name: string) => call<void>("DELETE", "/agents/" + encodeURIComponent(name)),
    onSuccess: () => {
      setAsked("");
      void client.invalidateQueries({ queryKey: ["agents"] });
    },
  });
  useEffect(() => {
    document.title = "Agents – Woodlark";
  }, []);
  return (
    <>
      <h1 className="pt-8 pb-6 text-2xl font-light md:text-3xl">Agents</h1>
      {agents.error && !agents.data && <Trouble error={agents.error} retry={() => void agents.refetch()} />}
      {remove.error && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {remove.error.message}
        </p>
      )}
      <ul>
        {(agents.data ?? []).map((a) => (
          <li key={a.id} className="grid grid-cols-1 gap-x-8 gap-y-1 border-t border-line py-3 md:grid-cols-[16rem_1fr_1fr_auto]">
            <div>
              <p className="text-lg">{a.name}</p>
              <p className="text-sm text-soft">
                {[a.site, where[a.kind], a.labels].filter(Boolean).join(", ")}
              </p>
            </div>
            <div>
              <p className={a.alive ? "" : "text-plum"}>
                <Mark alive={a.alive} /> {a.alive ? "there" : "away"}
                {!a.alive && a.lost_at && <span title={exactly(a.lost_at)}> since {ago(a.lost_at)}</span>}
              </p>
              <p className="text-sm text-soft">
                version {a.version || "not known"}
                {a.health && `, clock ${clock(a)}`}
              </p>
              {a.health && (
                <p className="figures text-sm text-soft">
                  {a.health.load.machine_ratio != null && `machine ${percent(a.health.load.machine_ratio)} % busy`}
                  {a.health.late_ms != null && `, probes ${ms(a.health.late_ms)} ms late`}
                  {a.health.held_back > 0 && `, ${a.health.held_back} readings wait`}
                  {a.health.dropped > 0 && `, ${a.health.dropped} dropped`}
                </p>
              )}
              {a.health && a.health.set_aside > 0 && (
                <p className="text-sm text-plum">
                  {a.health.set_aside} set aside, the last because: {a.health.aside_reason}
                </p>
              )}
            </div>
            <div className="text-sm text-soft">
              {a.health && (
                <>
                  <p>{(a.health.may ?? []).join(", ")}</p>
                  <p>{a.health.responder ? `far end at ${a.health.responder}` : "no far end"}</p>
                  {a.health.limits && <p>{a.health.limits}</p>}
                </>
              )}
            </div>
            <div>
              {a.kind === "remote" &&
                (asked === a.name ? (
                  <May call="remove-agent"><button type="button" className={button} onClick={() => remove.mutate(a.name)}>
                    Lock {a.name} out
                  </button></May>
                ) : (
                  <May call="remove-agent"><button type="button" className="cursor-pointer text-sm text-soft underline underline-offset-4" onClick={() => setAsked(a.name)} aria-label={`Remove ${a.name}`}>
                    Remove
                  </button></May>
                ))}
            </div>
          </li>
        ))}
      </ul>
      <May call="invite-agent"><Inviting /></May>
    </>
  );
}

function clock(a: Agent) {
  const c = a.health!.clock;
  if (!c.known) return "not told of";
  if (!c.synchronised) return "runs free";
  return c.max_error_ms ? `in step to ${ms(c.max_error_ms)} ms` : "in step";
}

function Mark({ alive }: { alive: boolean }) {
  return (
    <svg viewBox="0 0 16 16" className="inline size-4 align-[-0.15em]" fill="none" stroke="currentColor" strokeWidth="1.75" aria-hidden>
      {alive ? <circle cx="8" cy="8" r="3.5" fill="currentColor" /> : <path d="M8 3a5 5 0 1 0 0 10A5 5 0 0 0 8 3M2 8h12" />}
    </svg>
  );
}

function Inviting() {
  const [name, setName] = useState("");
  const [site, setSite] = useState("");
  const invite = useMutation({ mutationFn: () => call<Invite>("POST", "/agents/invites", { name, site }) });
  return (
    <section aria-labelledby="add" className="mt-8 border-t border-line pt-6">
      <h2 id="add" className="text-lg">
        Add one
      </h2>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-4" onSubmit={(e) => { e.preventDefault(); invite.mutate(); }}>
        <Field label="Name" value={name} onChange={setName} hint="its machine's" />
        <Field label="Site" value={site} onChange={setSite} />
        <button type="submit" disabled={invite.isPending} className={button}>
          Invite
        </button>
      </form>
      {invite.error && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {invite.error.message}
        </p>
      )}
      {invite.data ? (
        <>
          <p>Run this on the other machine, once, before {exactly(invite.data.ends_at)}. The code is shown only now.</p>
          <pre tabIndex={0} className="figures mt-2 overflow-x-auto border border-line p-3 text-sm">{invite.data.command}</pre>
        </>
      ) : (
        <p className="text-soft">An invite gives one command to paste on another machine. The agent calls out only, so it works behind NAT; with -listen it is also the far end for throughput and streams.</p>
      )}
    </section>
  );
}
