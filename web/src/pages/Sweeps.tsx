import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link, useParams } from "react-router";
import { get, type Sweep } from "../api";
import { exactly, when } from "../format";
import { SweepResult } from "../parts/SweepResult";
import { Trouble } from "../parts/Trouble";

/** Sweeps lists the sweeps, and shows one: the newest, or the one that is named. */
export function Sweeps() {
  const named = useParams().id;
  const list = useQuery({ queryKey: ["sweeps"], queryFn: () => get<Sweep[]>("/sweeps?limit=100"), refetchInterval: 30_000 });
  const sweeps = list.data ?? [];
  const id = named ?? (sweeps.find((s) => s.outcome === "done") ?? sweeps[0])?.id;
  const one = useQuery({
    queryKey: ["sweeps", id],
    queryFn: () => get<Sweep>("/sweeps/" + id),
    enabled: id !== undefined,
    refetchInterval: (q) => (q.state.data?.outcome === "running" ? 500 : false),
  });
  useEffect(() => {
    document.title = "Sweeps – Woodlark";
  }, []);
  return (
    <>
      <h1 className="pt-8 pb-6 text-2xl font-light md:text-3xl">Sweeps</h1>
      {list.error && !list.data && <Trouble error={list.error} retry={() => void list.refetch()} />}
      {list.data && sweeps.length === 0 && (
        <p className="text-soft">
          Nothing was swept yet. <Link to="/measure?kind=sweep" className="text-ink underline underline-offset-4">Sweep a prefix</Link>, or let a watch do it every hour.
        </p>
      )}
      {sweeps.length > 0 && (
        <div className="grid grid-cols-1 gap-x-10 gap-y-8 md:grid-cols-[17rem_minmax(0,1fr)]">
          <nav aria-label="Sweeps, newest first" className="max-md:max-h-60 max-md:overflow-auto">
            <ol>
              {sweeps.map((s) => (
                <li key={s.id} className="border-t border-line">
                  <Link to={"/sweeps/" + s.id} aria-current={s.id === id ? "true" : undefined} className="block border-l-2 border-transparent py-2 pl-3 hover:bg-sheet aria-[current]:border-ochre">
                    <span className="block truncate">{(s.prefixes ?? []).join(", ")}</span>
                    <span className="figures flex gap-x-2 text-sm text-soft" title={exactly(s.started_at)}>
                      <span>{when(s.started_at)}</span>
                      <span>{s.outcome === "done" ? `${s.answered.toLocaleString("en-GB")} of ${s.addresses.toLocaleString("en-GB")}` : s.outcome}</span>
                    </span>
                    <span className="block text-sm text-soft">{s.watch || "on demand"}, from {s.from}</span>
                  </Link>
                </li>
              ))}
            </ol>
          </nav>
          <section aria-label="One sweep">
            {one.error && !one.data && <Trouble error={one.error} retry={() => void one.refetch()} />}
            {one.data && <SweepResult sweep={one.data} />}
          </section>
        </div>
      )}
    </>
  );
}
