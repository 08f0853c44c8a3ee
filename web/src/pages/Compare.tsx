import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { get, type SideBySide, type RowList } from "../api";
import { bits, ms, percent } from "../format";
import { Choice } from "../parts/Choice";
import { Trouble } from "../parts/Trouble";
import { Moment } from "../parts/WatchEditor";

const spans: Record<string, number> = { "10m": 10, "30m": 30, "1h": 60, "6h": 360, "24h": 1440 };
const states: Record<string, string> = { differs: "differs", alike: "alike", not_told: "not told", one_only: "one only" };

/** local is a moment as a field for it has it. */
const local = (t: Date) => new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

/** Compare lays two paths, or one at two moments, or two runs, beside each other, and says what surely differs. */
export function Compare() {
  const [search, setSearch] = useSearchParams();
  const paths = useQuery({ queryKey: ["every path"], queryFn: () => get<RowList>("/paths/rows?limit=20000"), staleTime: 60_000 });
  const list = (paths.data?.rows ?? []).map((p) => ({ id: p.id, name: `${p.from} → ${p.to}, IPv${p.family} by ${p.via}` }));
  const span = spans[search.get("for") ?? ""] ? search.get("for")! : "30m";
  const length = spans[span]! * 60_000;
  const set = (values: Record<string, string>) =>
    setSearch(
      (old) => {
        for (const [k, v] of Object.entries(values)) old.set(k, v);
        return old;
      },
      { replace: true },
    );
  const ends = (["a", "b"] as const).map((which) => {
    const run = search.get(which + "_run") ?? "";
    const id = search.get(which) || list[0]?.id || "";
    // Without a moment the second is the newest, and the first a day before.
    const at = search.get(which + "_at") || local(new Date(Date.now() - length - (which === "a" ? 24 * 3600_000 : 0)));
    return { which, run, id, at };
  });
  const query = new URLSearchParams();
  for (const e of ends) {
    if (e.run) query.set(e.which + "_run", e.run);
    else {
      const from = new Date(e.at);
      query.set(e.which + "_path", e.id);
      query.set(e.which + "_from", from.toISOString());
      query.set(e.which + "_to", new Date(from.getTime() + length).toISOString());
    }
  }
  const ready = ends.every((e) => e.run || (e.id && !Number.isNaN(new Date(e.at).getTime())));
  const compared = useQuery({ queryKey: ["compare", query.toString()], queryFn: () => get<SideBySide>("/compare?" + query), enabled: ready, retry: false });
  useEffect(() => {
    document.title = "Compare – Woodlark";
  }, []);
  if (paths.error && !paths.data) return <Trouble error={paths.error} retry={() => void paths.refetch()} />;
  return (
    <>
      <h1 className="pt-8 pb-1 text-2xl font-light md:text-3xl">Compare</h1>
      <p className="max-w-2xl pb-4 text-soft">Two paths, or one at two moments, beside each other: what surely differs, and by how much.</p>
      <div className="flex flex-wrap items-end gap-x-10 gap-y-4 border-y border-line py-4">
        {ends.map((e) => (
          <div key={e.which} role="group" aria-label={e.which === "a" ? "The first" : "The second"} className="flex max-w-full min-w-0 flex-wrap items-end gap-x-6 gap-y-4">
            {e.run ? (
              <p className="text-soft">
                {e.which === "a" ? "First: run " : "Second: run "}
                {e.run}
              </p>
            ) : (
              <>
                <Choice above needed label={e.which === "a" ? "First" : "Second"} value={list.find((p) => p.id === e.id)?.name ?? ""} values={list.map((p) => p.name)} onChange={(v) => set({ [e.which]: list.find((p) => p.name === v)!.id })} />
                <Moment label="From" value={e.at} onChange={(v) => set({ [e.which + "_at"]: v })} />
              </>
            )}
          </div>
        ))}
        {ends.some((e) => !e.run) && <Choice above needed label="For" value={span} values={Object.keys(spans)} onChange={(v) => set({ for: v })} />}
      </div>
      {compared.error && (
        <p role="alert" className="mt-4 border-l-2 border-plum pl-3">
          {compared.error.message}
        </p>
      )}
      {compared.data && <Compared r={compared.data} />}
    </>
  );
}

function amount(v: number | null | undefined, unit: string): string {
  if (v == null) return "–";
  switch (unit) {
    case "ms":
      return ms(v) + " ms";
    case "bit/s":
      return bits(v);
    case "ratio":
      return percent(v) + " %";
  }
  return String(Number(v.toPrecision(3))) + (unit ? " " + unit : "");
}

const sign = (v: number | null | undefined, unit: string) => (v == null ? "–" : (v < 0 ? "−" : "+") + amount(Math.abs(v), unit));

function Compared({ r }: { r: SideBySide }) {
  const head = "pr-6 pb-1 font-normal text-soft text-sm";
  return (
    <section aria-label="What differs" className="pt-5">
      <p className="max-w-3xl pb-3 text-lg">{r.sentence}</p>
      <p className="pb-3 text-sm text-soft">
        First: {r.a.name}, {r.a.what}. Second: {r.b.name}, {r.b.what}.
      </p>
      <div className="relative overflow-x-auto" role="region" aria-label="Figures of both" tabIndex={0}>
        <table className="figures text-left">
          <thead>
            <tr className="border-b border-line">
              {["Figure", "Way", "First", "Second", "By", "Surely between", ""].map((h, i) => (
                <th key={h} scope="col" className={head + (i > 1 && i < 6 ? " text-right" : "")}>
                  {h || <span className="sr-only">What is known</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {(r.differences ?? []).map((d) => (
              <tr key={d.key + (d.way ?? "")} className="border-b border-line align-baseline" title={d.why}>
                <td className="py-1 pr-6">{d.name}</td>
                <td className="pr-6">{d.way}</td>
                <td className="pr-6 text-right whitespace-nowrap">{amount(d.a, d.unit)}</td>
                <td className="pr-6 text-right whitespace-nowrap">{amount(d.b, d.unit)}</td>
                <td className="pr-6 text-right whitespace-nowrap">{sign(d.by, d.unit)}</td>
                <td className="pr-6 text-right whitespace-nowrap">{d.by_low == null ? "–" : `${sign(d.by_low, d.unit)} … ${sign(d.by_high, d.unit)}`}</td>
                <td className={d.state === "differs" ? (d.better === "a" ? "font-semibold text-plum underline decoration-2 underline-offset-4" : "font-semibold") : d.state === "not_told" ? "italic text-ochre" : "text-soft"}>
                  {d.state === "differs" ? (d.better === "a" ? "worse" : "better") : states[d.state]}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {r.route && !r.route.same && (
        <p className="pt-3 text-sm">
          <span className="text-soft">Hops of the first only: </span>
          {(r.route.only_a ?? []).join(", ") || "none"}
          <span className="text-soft">; of the second only: </span>
          {(r.route.only_b ?? []).join(", ") || "none"}
        </p>
      )}
      {(r.notes ?? []).map((text) => (
        <p key={text} className="pt-2 text-sm text-soft">
          {text}
        </p>
      ))}
    </section>
  );
}
