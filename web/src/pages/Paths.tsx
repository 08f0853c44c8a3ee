import { useQuery } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { get, type Incident, type PathChoices, type PathRow, type PathSketches, type Status } from "../api";
import { ago, bits, exactly, ms, percent } from "../format";
import { Choice } from "../parts/Choice";
import { DayPlot } from "../parts/DayPlot";
import { Incidents } from "../parts/Incidents";
import { StateMark } from "../parts/StateMark";
import { Trouble } from "../parts/Trouble";
import { part, partsOf, useRows } from "../rows";

const filters = ["state", "site", "agent", "tag"] as const;

/** Paths is the home page: worst first. */
export function Paths() {
  const [search, setSearch] = useSearchParams();
  const query = new URLSearchParams();
  for (const key of [...filters, "search"]) {
    const value = search.get(key);
    if (value) query.set(key, value);
  }
  const status = useQuery({ queryKey: ["status"], queryFn: () => get<Status>("/status"), refetchInterval: 30_000 });
  const every = useQuery({ queryKey: ["choices"], queryFn: () => get<PathChoices>("/paths/choices"), refetchInterval: 60_000 });
  const incidents = useQuery({ queryKey: ["incidents"], queryFn: () => get<Incident[]>("/incidents"), refetchInterval: 60_000 });
  useEffect(() => {
    document.title = "Paths – Woodlark";
  }, []);
  const set = (key: string, value: string) =>
    setSearch(
      (old) => {
        if (value) old.set(key, value);
        else old.delete(key);
        return old;
      },
      { replace: true },
    );
  const choices = {
    state: ["lost", "degraded", "unmeasured", "steady"],
    site: every.data?.sites ?? [],
    agent: every.data?.agents ?? [],
    tag: every.data?.tags ?? [],
  };
  const filtered = [...filters, "search"].some((key) => search.get(key));
  return (
    <>
      <h1 className="pt-8 pb-6 text-2xl leading-snug font-light md:text-3xl">{status.data?.summary ?? " "}</h1>
      {incidents.data && <Incidents list={incidents.data} />}
      <search className="flex flex-wrap items-baseline gap-x-6 gap-y-3 border-b border-line pb-3">
        <label className="flex items-baseline gap-2 text-sm text-soft">
          Find
          <input type="search" value={search.get("search") ?? ""} onChange={(e) => set("search", e.target.value)}
            className="w-44 border-b border-line bg-transparent px-1 pb-0.5 text-ink" />
        </label>
        {filters.map((key) => (
          <Choice key={key} label={key[0]!.toUpperCase() + key.slice(1)} value={search.get(key) ?? ""} values={choices[key]} onChange={(v) => set(key, v)} />
        ))}
        {filtered && (
          <button type="button" onClick={() => setSearch({}, { replace: true })} className="cursor-pointer text-sm underline underline-offset-4">
            Show all
          </button>
        )}
      </search>
      <Rows query={query.toString()} filtered={filtered} carries={every.data?.throughput ?? false} />
    </>
  );
}

const grid = "grid grid-cols-[1fr_auto] gap-x-6 md:items-center ";
/** columnsOf leaves the column of throughput out where none was measured. */
const columnsOf = (carries: boolean) => grid + (carries ? "md:grid-cols-[minmax(0,1fr)_14rem_8rem_7.5rem_9.5rem]" : "md:grid-cols-[minmax(0,1fr)_16rem_8.5rem_8.5rem]");

function Rows({ query, filtered, carries }: { query: string; filtered: boolean; carries: boolean }) {
  const list = useRef<HTMLOListElement>(null);
  const [offset, setOffset] = useState(0);
  const [parts, setParts] = useState([0]);
  const { rows: known, total, error, retry, sketches } = useRows(query, parts);
  const shown = total !== undefined && total > 0;
  useLayoutEffect(() => setOffset(list.current?.offsetTop ?? 0), [shown]);
  const rows = useWindowVirtualizer({ count: total ?? 0, estimateSize: () => 89, overscan: 8, scrollMargin: offset });
  const items = rows.getVirtualItems();
  const seen = partsOf(items[0]?.index ?? 0, items[items.length - 1]?.index ?? 0);
  const [first, last] = [seen[0]!, seen[seen.length - 1]!];
  useEffect(() => setParts((old) => (old[0] === first && old[old.length - 1] === last ? old : partsOf(first * part, last * part))), [first, last]);
  if (total === undefined) return error ? <Trouble error={error} retry={retry} /> : null;
  if (total === 0)
    return (
      <div className="py-12">
        <p>{filtered ? "No path fits this filter." : "No path is watched yet."}</p>
        {!filtered && (
          <p className="mt-2 text-soft">
            Add a watch on the command line; its first reading comes within a minute: <code className="text-ink">woodlark watch add -name loopback -from local -to 127.0.0.1</code>
          </p>
        )}
      </div>
    );
  return (
    <>
      {error && <Trouble error={error} retry={retry} />}
      <div className={columnsOf(carries) + " border-b border-line py-2 text-sm text-soft max-md:hidden"} aria-hidden="true">
        <span>Path</span>
        <span>Last 24 hours</span>
        <span className="text-right">RTT, ms</span>
        <span className="text-right">Loss, %</span>
        {carries && <span className="text-right">Throughput</span>}
      </div>
      <ol ref={list} aria-label="Paths, worst first" className="relative" style={{ height: rows.getTotalSize() }}>
        {items.map((item) => {
          const path = known.get(item.index);
          return (
            <li key={item.key} ref={rows.measureElement} data-index={item.index} className="absolute inset-x-0 border-b border-line"
              style={{ transform: `translateY(${item.start - offset}px)` }}>
              {path ? <Row path={path} sketch={sketches[path.id]} carries={carries} /> : <div className="h-22" />}
            </li>
          );
        })}
      </ol>
    </>
  );
}

/** Row is a path: its state, its ends, and why, a line each. */
function Row({ path, sketch, carries }: { path: PathRow; sketch?: PathSketches[string]; carries: boolean }) {
  const { normal_low_ms: low, normal_high_ms: high, normal_loss_ratio: loss } = path;
  return (
    <Link to={"/paths/" + path.id} className={columnsOf(carries) + " py-2.5 hover:bg-sheet"} data-path={path.from + " " + path.to + " " + path.family}>
      <div className="min-w-0">
        <div className="truncate">
          <StateMark state={path.state} />
          {path.since_at && (
            <span className="text-sm text-soft" title={exactly(path.since_at)}>
              {" "}
              for {ago(path.since_at).replace(" ago", "")}
            </span>
          )}
        </div>
        <div className="break-words md:truncate">
          <span className="font-medium">
            {path.from} → {path.to}
          </span>
          <span className="text-sm text-soft">
            {" "}
            IPv{path.family}
            {path.via !== "icmp" && ` by ${path.via}`}
          </span>
        </div>
      </div>
      <div className="max-md:order-last max-md:col-span-2 max-md:mt-2">
        <DayPlot sketch={sketch} />
      </div>
      <Against now={ms(path.rtt_median_ms)} unit="ms" normal={low != null ? `${ms(low)}–${ms(high)}` : ""} />
      <Against now={percent(path.loss_ratio)} unit="%" normal={loss != null ? percent(loss) : ""} />
      {carries && <Carries t={path.throughput} />}
      <p className="col-span-full text-sm text-soft md:truncate" title={path.sentence}>
        {path.sentence}
      </p>
    </Link>
  );
}

/** Carries is the throughput there and back; ochre where it is below its usual. */
function Carries({ t }: { t: PathRow["throughput"] }) {
  const way = (w: NonNullable<PathRow["throughput"]>["there"], arrow: string) =>
    w.bps != null && (
      <div className={w.usual_low_bps != null && w.bps < w.usual_low_bps ? "text-ochre" : ""} title={w.usual_low_bps == null ? "too few readings to say what is usual" : `usual ${bits(w.usual_low_bps)} to ${bits(w.usual_high_bps)}`}>
        {arrow} {bits(w.bps)}
      </div>
    );
  return (
    <div className="figures text-right whitespace-nowrap" title={t ? exactly(t.at) : undefined}>
      {t ? way(t.there, "→") : <span className="max-md:hidden">–</span>}
      {t && way(t.back, "←")}
    </div>
  );
}

/** Against is a figure over what is normal for it. */
function Against({ now, unit, normal }: { now: string; unit: string; normal: string }) {
  return (
    <div className="figures text-right max-md:col-start-2">
      <div>
        {now}
        {now !== "–" && <span className="font-light text-soft"> {unit}</span>}
      </div>
      <div className="text-sm whitespace-nowrap text-soft">{normal && "normal " + normal}</div>
    </div>
  );
}
