import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type Lanes, type Path, type SeenRoute, type Trace } from "../api";
import { when } from "../format";
import { RouteField } from "./RouteField";
import { RouteGraph } from "./RouteGraph";
import { RouteBranches, RouteChanges, RouteHops } from "./RouteHops";
import type { Range } from "../format";
import { May } from "../may";

/** useLanes asks for the hops of a path over the time of its plot. */
export function useLanes(id: string, range: Range, enabled: boolean) {
  const iso = (t: number) => encodeURIComponent(new Date(t).toISOString());
  return useQuery({
    queryKey: ["traces", "lanes", id, Math.round(range.from / 60_000), Math.round(range.to / 60_000)],
    queryFn: () => get<Lanes>(`/paths/${id}/lanes?from_at=${iso(range.from)}&to_at=${iso(range.to)}`),
    placeholderData: keepPreviousData,
    enabled,
  });
}

/** LanesOf is the route field of a path, on the time of its plot. */
export function LanesOf({ lanes, range }: { lanes: Lanes | undefined; range: Range }) {
  if (!lanes) return null;
  return (
    <section aria-labelledby="field" className="pt-4">
      <h2 id="field" className="pb-1 text-lg">
        Hop by hop
      </h2>
      <RouteField lanes={lanes} range={range} />
    </section>
  );
}

/** RouteOf is the route of a path now, beside an earlier one, and those of other agents to the same target. */
export function RouteOf({ path }: { path: Path }) {
  const [beside, setBeside] = useState("baseline");
  const newest = useQuery({ queryKey: ["traces", "newest", path.from, path.to], queryFn: () => get<Trace[]>(`/traces?to=${encodeURIComponent(path.to)}&limit=300&latest=true`) });
  const routes = useQuery({ queryKey: ["traces", "routes", path.id], queryFn: () => get<SeenRoute[]>(`/paths/${path.id}/routes`) });
  const all = (newest.data ?? []).filter((t) => t.family === path.family);
  const own = all.find((t) => t.from === path.from);
  const compared = useQuery({
    queryKey: ["traces", own?.id, "beside", beside],
    queryFn: () => get<Trace>(`/traces/${own!.id}?compare=${beside}`),
    enabled: own !== undefined,
    retry: false,
  });
  if (newest.data && !own)
    return (
      <section aria-labelledby="route" className="md:col-span-2">
        <h2 id="route" className="text-lg">
          Route
        </h2>
        <p className="mt-2 text-soft">
          Not traced yet. <May call="start-runs"><Link to={`/measure?kind=trace&from=${path.from}&to=${encodeURIComponent(path.to)}`} className="text-ink underline underline-offset-4">Trace it</Link></May>.
        </p>
      </section>
    );
  const report = (compared.data ?? own)?.report;
  if (!report || !own) return null;
  const seen = routes.data ?? [];
  return (
    <>
      <section aria-labelledby="route" className="md:col-span-2">
        <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
          <h2 id="route" className="text-lg">
            Route
          </h2>
          <span className="text-sm text-soft">
            traced {when(own.started_at)} by {own.via}
            {!report.branches_complete && "; there may be more ways than were looked for"}
          </span>
          <label className="ml-auto text-sm text-soft">
            Beside{" "}
            <select value={beside} onChange={(e) => setBeside(e.target.value)} className="max-w-72 cursor-pointer border-b border-line bg-transparent py-1 text-ink">
              <option value="baseline">the usual route</option>
              <option value="last">the last trace</option>
              {seen.map((r) => (
                <option key={r.route} value={r.last_trace_id}>
                  {`${(r.hops ?? []).length} hops, ${r.times} times, ${when(r.first_at)} to ${when(r.last_at)}`}
                </option>
              ))}
            </select>
          </label>
        </div>
        <div className="mt-2">{compared.error ? <p className="text-soft">{compared.error.message}</p> : <RouteChanges report={report} />}</div>
        <ul className="mt-3 space-y-2">
          {(report.findings ?? [])
            .filter((f) => f.code !== "route_changed")
            .map((f) => (
              <li key={f.code + f.sentence} className="border-l-2 border-line pl-3">
                {f.sentence} <span className="text-sm text-soft">{f.advice}</span>
              </li>
            ))}
        </ul>
        <div className="mt-3">
          <RouteHops report={report} />
          <RouteBranches report={report} />
        </div>
      </section>
      {all.length > 1 && (
        <section aria-labelledby="merged" className="md:col-span-2">
          <h2 id="merged" className="text-lg">
            From all agents to {path.to}
          </h2>
          <RouteGraph traces={all} />
        </section>
      )}
    </>
  );
}
