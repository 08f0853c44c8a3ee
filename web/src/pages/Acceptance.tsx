import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { get, post, put, remove, type Agent, type Measurement, type Plan, type PlanChange, type Run } from "../api";
import { when } from "../format";
import { kindName } from "../kinds/accept/words";
import { Choice } from "../parts/Choice";
import { Field, button } from "../parts/Field";
import { Tick } from "../parts/KindForm";
import { PlanEditor, Takes, useEstimate } from "../parts/PlanEditor";
import { Trouble } from "../parts/Trouble";
import { blank, formOf, incomplete, planOf, unshown, type PlanForm } from "../planForm";
import { May } from "../may";

type KindName = NonNullable<Measurement["kind"]>;

/** Acceptance keeps plans of acceptance tests, starts them, and lists what they found. */
export function Acceptance() {
  const [search, setSearch] = useSearchParams();
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => get<Plan[]>("/plans") });
  const runs = useQuery({ queryKey: ["runs", kindName], queryFn: () => get<Run[]>("/runs?limit=50&kind=" + kindName), refetchInterval: 5000 });
  const [picked, setPicked] = useState<string[]>([]);
  const chosen = search.get("plan");
  useEffect(() => {
    document.title = "Acceptance – Woodlark";
  }, []);
  const list = (plans.data ?? []).filter((p) => p.kind === kindName);
  const plan = list.find((p) => p.id === chosen);
  const go = (id?: string) => setSearch(id ? { plan: id } : {}, { replace: true });
  return (
    <>
      <h1 className="pt-8 pb-2 text-2xl font-light md:text-3xl">Acceptance</h1>
      <p className="max-w-3xl pb-4 text-soft">Does the circuit carry what was bought? A plan says how that is tested; each run of it keeps what it was told, so that before and after a repair can be laid beside each other.</p>
      {plans.error && <Trouble error={plans.error} retry={() => void plans.refetch()} />}
      <ul className="border-t border-line">
        {list.map((p) => (
          <li key={p.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b border-line py-2.5">
            <button type="button" onClick={() => go(p.id)} aria-expanded={p.id === chosen} className="min-w-48 cursor-pointer text-left text-lg underline-offset-4 hover:underline aria-expanded:underline">
              {p.name}
            </button>
            <span className="ml-auto text-sm text-soft">
              revision {p.revision}, by {p.changed_by}, {when(p.changed_at)}
            </span>
          </li>
        ))}
      </ul>
      {chosen !== "new" && (
        <p className="pt-4">
          <May call="add-plan"><button type="button" className={button} onClick={() => go("new")}>
            Make a plan
          </button></May>
        </p>
      )}
      {chosen === "new" && <May call="add-plan"><Editor key="new" close={(id) => go(id)} /></May>}
      {plan && <Editor key={plan.id + plan.revision} plan={plan} close={(id) => go(id)} />}
      <h2 className="pt-10 pb-2 text-xl font-light">Runs</h2>
      {runs.error && <Trouble error={runs.error} retry={() => void runs.refetch()} />}
      {runs.data?.length === 0 && <p className="text-soft">No test was run yet.</p>}
      <ul className="border-t border-line">
        {(runs.data ?? []).map((r) => (
          <li key={r.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b border-line py-2">
            <Tick label="compare" title="to lay beside another" on={picked.includes(r.id)} set={(on) => setPicked(on ? [...picked.slice(-1), r.id] : picked.filter((x) => x !== r.id))} />
            <Link to={"/acceptance/" + r.id} className="underline-offset-4 hover:underline">
              {r.from} → {r.to}
            </Link>
            <span className="text-soft">{when(r.started_at)}</span>
            <span className={r.outcome === "failed" ? "text-plum" : ""}>
              {r.outcome === "running" ? `${r.says || "going on"}${r.of ? `, ${Math.round((100 * r.heard) / r.of)} %` : ""}` : r.outcome}
            </span>
            <span className="text-sm text-soft">{r.reason}</span>
          </li>
        ))}
      </ul>
      {picked.length === 2 && (
        <p className="pt-4">
          <Link className={button} to={`/acceptance/${picked[0]}?with=${picked[1]}`}>
            Lay both beside each other
          </Link>
        </p>
      )}
    </>
  );
}

/** Editor makes or changes a plan, and starts it. */
function Editor({ plan, close }: { plan?: Plan; close: (id?: string) => void }) {
  const was = plan?.how["plan"] as { [key: string]: unknown } | undefined;
  const [form, setForm] = useState<PlanForm>(() => (was ? { ...formOf(was), name: plan!.name } : blank()));
  const lost = was ? unshown(was).filter((p) => p !== "plan") : [];
  const client = useQueryClient();
  const estimate = useEstimate(form);
  const body = (): PlanChange => ({ name: form.name, kind: kindName, how: { plan: planOf(form) } as PlanChange["how"], ...(plan ? { revision: plan.revision } : {}) });
  const keep = useMutation({
    mutationFn: () => (plan ? put<Plan, "/api/v1/plans/{id}">("/api/v1/plans/{id}", { id: plan.id }, body()) : post<Plan, "/api/v1/plans">("/api/v1/plans", body())),
    onSuccess: (p) => {
      void client.invalidateQueries({ queryKey: ["plans"] });
      close(p.id);
    },
  });
  const forget = useMutation({
    mutationFn: () => remove("/api/v1/plans/{id}", { id: plan!.id }),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["plans"] });
      close();
    },
  });
  const trouble = keep.error ?? forget.error;
  return (
    <section aria-label={plan ? "Plan " + plan.name : "New plan"} className="border-b border-line py-6">
      {lost.length > 0 ? (
        <p className="pb-4 text-soft">This plan says more than this form shows ({lost.join(", ")}): change it with “woodlark accept keep”.</p>
      ) : (
        <form onSubmit={(e) => { e.preventDefault(); keep.mutate(); }}>
          <PlanEditor form={form} change={setForm} />
          <div className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-6">
            <May call="change-plan"><button type="submit" className={button} disabled={!form.name.trim() || keep.isPending || estimate.isError || incomplete(form) !== ""}>
              {plan ? "Keep the change" : "Keep it"}
            </button></May>
            {plan && (
              <May call="remove-plan"><button type="button" className={button} disabled={forget.isPending} onClick={() => forget.mutate()}>
                Forget it
              </button></May>
            )}
            <button type="button" className="cursor-pointer pb-1.5 text-sm text-soft underline underline-offset-4" onClick={() => close()}>
              Close
            </button>
          </div>
        </form>
      )}
      {trouble && (
        <p role="alert" className="mt-3 border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      <div className="pt-4">
        <Takes query={estimate} form={form} />
      </div>
      {plan && <May call="start-runs"><Start plan={plan} bySize={form.bySize} /></May>}
    </section>
  );
}

const elsewhere = "an address …";

/** Start starts a plan from an agent to another, or to a responder. */
function Start({ plan, bySize }: { plan: Plan; bySize: boolean }) {
  const navigate = useNavigate();
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents") });
  const names = (agents.data ?? []).map((a) => a.name);
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [key, setKey] = useState("");
  const [out, setOut] = useState(false);
  const near = from || names[0] || "";
  const others = (agents.data ?? []).filter((a) => a.name !== near && a.health?.responder).map((a) => a.name);
  const far = to || others[0] || "";
  const start = useMutation({
    mutationFn: () => post<Run[], "/api/v1/runs">("/api/v1/runs", { kind: kindName as KindName, from: near, to: [far], ...(key ? { key } : {}), ...plan.how, ...(out ? { out_of_service: true } : {}) }),
    onSuccess: (runs) => void navigate("/acceptance/" + runs[0]!.id),
  });
  return (
    <form className="flex flex-wrap items-end gap-x-6 gap-y-3 border-t border-line pt-4" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
      <Choice above needed label="From" value={near} values={names} onChange={setFrom} />
      <Choice above needed label="To" value={others.includes(far) ? far : elsewhere} values={[...others, elsewhere]} onChange={(v) => setTo(v === elsewhere ? "192.0.2.7:7474" : v)} />
      {!others.includes(far) && (
        <>
          <Field label="Its address" value={far} onChange={setTo} />
          <Field label="Its key" value={key} onChange={setKey} />
        </>
      )}
      {bySize && <Tick label="The circuit is out of service" on={out} set={setOut} />}
      <button type="submit" className={button} disabled={start.isPending || !near || !far}>
        Run it
      </button>
      {start.error && (
        <p role="alert" className="basis-full border-l-2 border-plum pl-3">
          {start.error.message}
        </p>
      )}
    </form>
  );
}
