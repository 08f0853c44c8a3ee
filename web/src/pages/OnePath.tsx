import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Radio, RadioGroup } from "@headlessui/react";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, get, type Baseline, type Episode, type Path, type PathList, type Run, type Series } from "../api";
import { ago, exactly, ms, percent, span, when } from "../format";
import { Accepting, BeforeAndDuring } from "../parts/BeforeAndDuring";
import { Annotated } from "../parts/Annotated";
import { Evidence } from "../parts/Evidence";
import { Fitness } from "../parts/Fitness";
import { MakeGuestLink } from "../parts/GuestLinks";
import { LikeWorld } from "../parts/LikeWorld";
import { LanesOf, RouteOf, useLanes } from "../parts/PathRoute";
import { resolutionText } from "../parts/plotOptions";
import { SeriesTable, toCSV } from "../parts/SeriesTable";
import { StateMark } from "../parts/StateMark";
import type { Range } from "../format";
import { TimePlot } from "../parts/TimePlot";
import { TwoEndsOf } from "../parts/TwoEndsOf";
import { Trouble } from "../parts/Trouble";
import { WeekPlot } from "../parts/WeekPlot";
import { May } from "../may";

const minute = 60_000;
const hour = 60 * minute;
const day = 24 * hour;
const lengths: [string, number][] = [
  ["10 min", 10 * minute],
  ["1 h", hour],
  ["6 h", 6 * hour],
  ["24 h", day],
  ["3 d", 3 * day],
  ["14 d", 14 * day],
  ["90 d", 90 * day],
  ["1 year", 365 * day],
];

/** tellsOf is the shortest length that shows the start of what a path's sentence tells; a day at the least. */
function tellsOf(path: Path | undefined): string {
  if (!path) return "24 h";
  const starts = [...(path.episodes ?? []).map((e) => e.began_earliest_at), ...(path.properties ?? []).filter((p) => !p.ended_at && (p.kind === "new_level" || p.kind === "crept")).map((p) => p.since_at)];
  const oldest = Math.min(Date.now(), ...starts.map((t) => new Date(t).getTime()));
  const least = Math.max(path.daily ? 3 * day : day, (Date.now() - oldest) * 1.15);
  return (lengths.find(([, l]) => l >= least) ?? lengths[lengths.length - 1]!)[0];
}

/** useRange keeps the plot's range in the address bar: a length up to now, or two fixed ends after a zoom. Before one is chosen, it shows what is told. */
function useRange(path: Path | undefined) {
  const [search, setSearch] = useSearchParams();
  const chosen = useRef<string>(undefined); // what is told first stays, though more may be told meanwhile
  if (path && chosen.current === undefined) chosen.current = tellsOf(path);
  const name = search.get("range") ?? chosen.current;
  const length = lengths.find(([n]) => n === name) ?? lengths[3]!;
  const from = Number(search.get("from"));
  const to = Number(search.get("to"));
  const zoomed = from > 0 && to > from;
  const [now, setNow] = useState(Date.now());
  useEffect(() => {
    const tick = setInterval(() => setNow(Date.now()), length[1] <= hour ? 5_000 : 30_000);
    setNow(Date.now());
    return () => clearInterval(tick);
  }, [length]);
  const range: Range = useMemo(() => (zoomed ? { from, to } : { from: now - length[1], to: now }), [zoomed, from, to, now, length]);
  return {
    range,
    zoomed,
    name: zoomed ? "" : length[0],
    choose: (name: string) => setSearch({ range: name }),
    zoom: (r: Range) => {
      const middle = (r.from + r.to) / 2;
      const half = Math.max(r.to - r.from, 20_000) / 2;
      setSearch({ range: length[0], from: String(Math.round(middle - half)), to: String(Math.round(middle + half)) });
    },
  };
}

export function OnePath() {
  const id = useParams().id!;
  const path = useQuery({ queryKey: ["path", id, "standing"], queryFn: () => get<Path>("/paths/" + id) });
  const { range, zoomed, name, choose, zoom } = useRange(path.data);
  const navigate = useNavigate();
  const [table, setTable] = useState(false);
  const iso = (t: number) => encodeURIComponent(new Date(t).toISOString());
  const series = useQuery({
    queryKey: ["path", id, "series", Math.round(range.from / 1000), Math.round(range.to / 1000)],
    queryFn: () => get<Series>(`/paths/${id}/series?from_at=${iso(range.from)}&to_at=${iso(range.to)}`),
    placeholderData: keepPreviousData,
    enabled: path.data !== undefined,
  });
  const lanes = useLanes(id, range, path.data !== undefined);
  const p = path.data;
  useEffect(() => {
    document.title = p ? `${p.from} → ${p.to} – Woodlark` : "Woodlark";
  }, [p]);
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.ctrlKey || e.metaKey || e.altKey) return;
      const middle = (range.from + range.to) / 2;
      const half = (range.to - range.from) / 2;
      if (e.key === "+" || e.key === "=") zoom({ from: middle - half / 2, to: middle + half / 2 });
      if (e.key === "-") zoom({ from: middle - half * 2, to: Math.min(Date.now(), middle + half * 2) });
      if (e.key === "Backspace" && zoomed) void navigate(-1);
    };
    addEventListener("keydown", keys);
    return () => removeEventListener("keydown", keys);
  });
  if (path.error && !p) return <Trouble error={path.error} retry={() => void path.refetch()} />;
  if (!p) return null;
  const headline = (p.findings ?? [])[0];
  return (
    <>
      <nav aria-label="Way back" className="pt-5 text-sm">
        <Link to="/" className="text-soft underline-offset-4 hover:underline">
          ← All paths
        </Link>
        <Link to={`/compare?a=${p.id}&b=${p.id}`} className="ml-6 text-soft underline-offset-4 hover:underline">
          Compare with another time or path
        </Link>
      </nav>
      <h1 className="pt-2 text-2xl md:text-3xl">
        {p.from} → {p.to} <span className="text-base whitespace-nowrap text-soft">
          IPv{p.family}
          {p.via !== "icmp" && ` by ${p.via}`}
        </span>
      </h1>
      <p className="pt-1">
        <StateMark state={p.state} />
        {p.since_at && (
          <span className="text-soft" title={exactly(p.since_at)}>
            {" "}
            since {when(p.since_at)}, {ago(p.since_at).replace(" ago", "")}
          </span>
        )}
      </p>
      <div className="pt-0.5 pb-5">
        <p>{headline?.sentence}</p>
        {p.state === "steady" && p.daily && <p>{(p.findings ?? [])[(p.findings ?? []).length - 1]?.sentence}</p>}
      </div>
      <section aria-labelledby="along-time" className="border-t border-line pt-3">
        <h2 id="along-time" className="sr-only">
          Along time
        </h2>
        <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
          <RadioGroup value={name} onChange={choose} aria-label="Range" className="flex flex-wrap gap-x-1">
            {lengths.map(([n]) => (
              <Radio key={n} value={n} className="cursor-pointer px-2 py-1 text-sm whitespace-nowrap text-soft data-checked:text-ink data-checked:underline data-checked:decoration-ochre data-checked:decoration-2 data-checked:underline-offset-8">
                {n}
              </Radio>
            ))}
          </RadioGroup>
          {zoomed && (
            <button type="button" onClick={() => void navigate(-1)} className="cursor-pointer text-sm underline underline-offset-4">
              Back out
            </button>
          )}
          <div className="ml-auto flex gap-4 text-sm">
            <button type="button" aria-pressed={table} onClick={() => setTable(!table)} className="cursor-pointer text-soft underline-offset-4 hover:underline">
              {table ? "Plot" : "Table"}
            </button>
            {series.data && (
              <a download={`${p.from} to ${p.to}.csv`} href={"data:text/csv;charset=utf-8," + encodeURIComponent(toCSV(series.data))} className="text-soft underline-offset-4 hover:underline">
                CSV
              </a>
            )}
          </div>
        </div>
        {series.error && !series.data && <Trouble error={series.error} retry={() => void series.refetch()} />}
        {series.data && (table ? <SeriesTable series={series.data} /> : <TimePlot series={series.data} moves={lanes.data?.changes ?? []} range={range} theme={document.documentElement.dataset.theme ?? ""} onZoom={zoom} />)}
        {series.data && <Legend series={series.data} moves={(lanes.data?.changes ?? []).length} />}
        <LanesOf lanes={lanes.data} range={range} />
      </section>
      <div className="mt-8 grid grid-cols-1 gap-x-12 gap-y-8 border-t border-line pt-6 md:grid-cols-2">
        <BeforeAndDuring path={p} />
        <Evidence path={p} />
        <Fitness path={p} />
        <Findings path={p} />
        <Accepting path={p} />
        <RouteOf path={p} />
        <OtherWays path={p} />
        <TwoEndsOf path={p} />
        <Normal path={p} />
        <Episodes id={id} />
        <Runs id={id} />
        <Annotated path={p} />
        <HandOn path={p} range={range} />
      </div>
    </>
  );
}

/** HandOn hands on what is seen: as a dossier, or by a link for somebody outside. */
function HandOn({ path, range }: { path: Path; range: Range }) {
  const query = new URLSearchParams({ path_ids: path.id, from_at: new Date(range.from).toISOString(), to_at: new Date(range.to).toISOString() });
  return (
    <section aria-labelledby="hand-on">
      <h2 id="hand-on" className="text-lg">
        Hand it on
      </h2>
      <p className="pt-1">
        <May call="make-dossier"><a className="underline underline-offset-4" href={"/api/v1/dossiers/file?" + query.toString()} download>
          Download a dossier of the time above
        </a></May>
        <span className="block text-sm text-soft">Report, readings, routes, runs and conditions in one signed file.</span>
      </p>
      <LikeWorld path={path} range={range} />
      <MakeGuestLink what="path" subject={path.id} titled={`${path.from} → ${path.to}`} />
    </section>
  );
}

function Legend({ series, moves }: { series: Series; moves: number }) {
  return (
    <p className="flex flex-wrap gap-x-6 gap-y-1 pt-1 text-sm text-soft">
      <span>
        <i className="mr-2 inline-block h-0.5 w-5 bg-ink align-middle" />
        {series.resolution === "probe" ? "each probe's RTT" : `median RTT of ${resolutionText(series)}, with least to 95 %`}
        {series.approximate && ", quantiles within 0.5 %"}
      </span>
      <span>
        <i className="mr-2 inline-block h-3 w-5 bg-ribbon align-middle" />
        normal for the median at that hour
      </span>
      <span>
        <i className="mr-2 inline-block h-3 w-0.5 bg-plum align-middle" />
        loss, longer for more
      </span>
      <span>
        <i className="mr-2 inline-block h-1 w-5 bg-ochre align-middle" />
        degraded
      </span>
      <span>
        <i className="mr-2 inline-block h-1 w-5 bg-plum align-middle" />
        lost
      </span>
      {moves > 0 && (
        <span>
          <svg viewBox="0 0 12 14" className="mr-2 inline h-3.5 w-3 align-middle" aria-hidden="true">
            <path d="M2 14V1l8 3.5L2 8" fill="var(--ink)" stroke="var(--ink)" />
          </svg>
          another route, found at the flag; the dots begin at the last trace of the old one
        </span>
      )}
      {(series.maintenance ?? []).length > 0 && (
        <span>
          <i className="mr-2 inline-block h-3 w-5 border border-line align-middle" style={{ background: "repeating-linear-gradient(45deg, var(--line) 0 2px, transparent 2px 5px)" }} />
          maintenance: not judged
        </span>
      )}
      {(series.evidence ?? []).length > 0 && (
        <span>
          <svg viewBox="0 0 12 12" className="mr-2 inline h-3 w-3 align-middle" aria-hidden="true">
            <path d="M6 1l5 5-5 5-5-5z" fill="none" stroke="var(--ink)" />
          </svg>
          evidence taken
        </span>
      )}
      {(series.annotations ?? []).length > 0 && (
        <span>
          <svg viewBox="0 0 12 12" className="mr-2 inline h-3 w-3 align-middle" aria-hidden="true">
            <path d="M2 2h8v8h-8z" fill="var(--ink)" />
          </svg>
          note
        </span>
      )}
      {(series.loads ?? []).length > 0 && (
        <span>
          <i className="mr-2 inline-block h-3 w-5 align-middle" style={{ background: "repeating-linear-gradient(135deg, var(--soft) 0 1px, transparent 1px 4px)" }} />
          a load run was beside it: not judged
        </span>
      )}
      <span>drag to zoom; + and − too</span>
    </p>
  );
}

function Findings({ path }: { path: Path }) {
  return (
    <section aria-labelledby="findings">
      <h2 id="findings" className="text-lg">
        Findings
      </h2>
      <ul className="mt-2 space-y-3">
        {(path.findings ?? []).map((f) => (
          <li key={f.code + f.sentence} className="border-l-2 border-line pl-3">
            <p>{f.sentence}</p>
            <p className="text-sm text-soft">
              {f.advice} {f.confidence < 1 && <span title={f.code}>Sure to {Math.floor(f.confidence * 1000) / 10} %.</span>}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** OtherWays compares the path with those to the same target by the other family or another kind of probe. */
function OtherWays({ path }: { path: Path }) {
  const list = useQuery({ queryKey: ["paths", "to", path.to], queryFn: () => get<PathList>(`/paths?limit=200&search=${encodeURIComponent(path.to)}`) });
  const ways = (list.data?.paths ?? []).filter((p) => p.from === path.from && p.to === path.to);
  ways.sort((a, b) => a.family - b.family || a.via.localeCompare(b.via));
  if (ways.length < 2) return null;
  return (
    <section aria-labelledby="ways">
      <h2 id="ways" className="text-lg">
        By kind and family
      </h2>
      <table className="figures mt-2 w-full">
        <thead className="text-sm text-soft">
          <tr>
            <th scope="col" className="text-left font-normal">To the same target</th>
            <th scope="col" className="text-left font-normal">State</th>
            <th scope="col" className="text-right font-normal">RTT, ms</th>
            <th scope="col" className="text-right font-normal">Jitter, ms</th>
            <th scope="col" className="text-right font-normal">Loss, %</th>
          </tr>
        </thead>
        <tbody>
          {ways.map((w) => (
            <tr key={w.id} className="border-t border-line">
              <th scope="row" className="py-1 text-left font-normal">
                {w.id === path.id ? `IPv${w.family} by ${w.via}, this one` : <Link to={"/paths/" + w.id} className="underline underline-offset-4">{`IPv${w.family} by ${w.via}`}</Link>}
              </th>
              <td>
                <StateMark state={w.state} />
              </td>
              <td className="text-right">{ms(w.last?.rtt_median_ms)}</td>
              <td className="text-right">{ms(w.last?.jitter_ms)}</td>
              <td className="text-right">{percent(w.last?.loss_ratio)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Normal({ path }: { path: Path }) {
  const client = useQueryClient();
  const pin = useMutation({
    mutationFn: (pinned: boolean) => call<Baseline>("PATCH", `/paths/${path.id}/baseline`, { pinned }),
    onSettled: () => client.invalidateQueries({ queryKey: ["path", path.id] }),
  });
  const b = path.baseline;
  const rows: [string, string, string, string][] = [
    ["RTT, median", ms(path.last?.rtt_median_ms), bandText(path.normal?.rtt_ms), "ms"],
    ["Jitter", ms(path.last?.jitter_ms), bandText(path.normal?.jitter_ms), "ms"],
    ["Loss", percent(path.last?.loss_ratio), path.normal?.loss_ratio ? percent(path.normal.loss_ratio.median) : "–", "%"],
  ];
  return (
    <section aria-labelledby="normal">
      <h2 id="normal" className="text-lg">
        Now against normal
      </h2>
      <table className="figures mt-2 w-full">
        <thead className="text-sm text-soft">
          <tr>
            <th scope="col" className="text-left font-normal">
              {path.last ? `Reading of ${when(path.last.started_at)}` : "No reading yet"}
            </th>
            <th scope="col" className="text-right font-normal">Now</th>
            <th scope="col" className="text-right font-normal">Normal at this hour</th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([what, now, normal, unit]) => (
            <tr key={what} className="border-t border-line">
              <th scope="row" className="py-1 text-left font-normal">{what}</th>
              <td className="text-right">
                {now} <span className="font-light text-soft">{unit}</span>
              </td>
              <td className="text-right">
                {normal} <span className="font-light text-soft">{unit}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {b ? (
        <p className="mt-2 text-sm text-soft">
          {b.pinned ? "Pinned" : "Rolling"} baseline of {b.readings.toLocaleString("en-GB")} readings, taken {when(b.taken_at)}.{" "}
          <May call="pin-baseline"><button type="button" disabled={pin.isPending} onClick={() => pin.mutate(!b.pinned)} className="cursor-pointer text-ink underline underline-offset-4">
            {b.pinned ? "Let it roll" : "Pin it"}
          </button></May>
          {pin.error && <span className="text-plum"> {pin.error.message}</span>}
          {path.learning_until_at && ` Still being learnt, until ${when(path.learning_until_at)}.`}
        </p>
      ) : (
        <p className="mt-2 text-sm text-soft">No baseline yet: a path has one after 30 readings.</p>
      )}
      {b && <WeekPlot id={path.id} />}
    </section>
  );
}

function bandText(b: { low: number; high: number } | null | undefined): string {
  return b ? `${ms(b.low)} to ${ms(b.high)}` : "–";
}

function Episodes({ id }: { id: string }) {
  const from = useMemo(() => new Date(Date.now() - 14 * day).toISOString(), []);
  const list = useQuery({ queryKey: ["path", id, "episodes"], queryFn: () => get<Episode[]>(`/paths/${id}/episodes?from_at=${from}`) });
  return (
    <section aria-labelledby="episodes">
      <h2 id="episodes" className="text-lg">
        Episodes of the last 14 days
      </h2>
      {list.data?.length === 0 && <p className="mt-2 text-soft">None.</p>}
      <ul className="mt-2 max-h-80 overflow-auto" tabIndex={0} aria-label="Episodes, newest first">
        {[...(list.data ?? [])].reverse().map((e) => (
          <li key={e.id} className="border-t border-line py-1.5">
            <StateMark state={e.kind} />{" "}
            <span title={exactly(e.from_at)}>
              {when(e.from_at)}, {e.to_at ? span(new Date(e.to_at).getTime() - new Date(e.from_at).getTime()) : "still going on"}
            </span>
            {e.times > 1 && <span className="text-sm text-soft"> came {e.times} times</span>}
            <p className="text-sm text-soft">{e.sentence}</p>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Runs({ id }: { id: string }) {
  const list = useQuery({ queryKey: ["path", id, "runs"], queryFn: () => get<Run[]>(`/runs?path=${id}&limit=20`) });
  return (
    <section aria-labelledby="runs">
      <h2 id="runs" className="text-lg">
        Runs
      </h2>
      {list.data?.length === 0 && <p className="mt-2 text-soft">Nothing failed or was missed, and nothing was asked for on demand.</p>}
      <ul className="mt-2">
        {(list.data ?? []).map((r) => (
          <li key={r.id} className="border-t border-line py-1.5">
            <span className={r.outcome === "failed" || r.outcome === "missed" ? "text-plum" : ""}>{r.outcome}</span> {when(r.started_at)}
            {r.ended_at && `, ${span(new Date(r.ended_at).getTime() - new Date(r.started_at).getTime())}`} <span className="text-sm text-soft">{r.reason || r.watch || "on demand"}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
