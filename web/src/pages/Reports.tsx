import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { Link } from "react-router";
import { get, type Objective, type PeriodReport } from "../api";
import { exactly, span, when } from "../format";
import { Choice } from "../parts/Choice";
import { Field, button } from "../parts/Field";
import { Tick } from "../parts/KindForm";
import { StateMark } from "../parts/StateMark";
import { Trouble } from "../parts/Trouble";
import { Moment } from "../parts/WatchEditor";
import { chosen, emptyReport, lengths, queryOf, type ReportForm } from "../reportForm";

const link = "underline underline-offset-4";

/** Reports makes reports of a period, and evidence for somebody else; both to be opened, printed and handed on. */
export function Reports() {
  const [form, setForm] = useState<ReportForm>(emptyReport);
  const [asked, setAsked] = useState<string>();
  const [mask, setMask] = useState(false);
  const set = (some: Partial<ReportForm>) => setForm({ ...form, ...some });
  const objectives = useQuery({ queryKey: ["objectives"], queryFn: () => get<Objective[]>("/objectives") });
  const key = useQuery({ queryKey: ["dossier-key"], queryFn: () => get<{ fingerprint: string }>("/dossiers/key") });
  const report = useQuery({ queryKey: ["report", asked], queryFn: () => get<PeriodReport>("/reports/period?" + asked), enabled: asked !== undefined });
  const now = useMemo(() => Date.now(), [form]);
  const query = queryOf(form, now);
  useEffect(() => {
    document.title = "Reports – Woodlark";
  }, []);
  return (
    <>
      <h1 className="pt-8 pb-4 text-2xl font-light md:text-3xl">Reports</h1>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 border-b border-line pb-6" onSubmit={(e) => { e.preventDefault(); if (query) setAsked(query.toString()); }}>
        <Choice above needed label="How far back" value={form.last} values={Object.keys(lengths)} onChange={(last) => set({ last })} />
        {lengths[form.last] === 0 && (
          <>
            <Moment label="From" value={form.from} onChange={(from) => set({ from })} />
            <Moment label="To" value={form.to} onChange={(to) => set({ to })} />
          </>
        )}
        <Choice above none="none" label="Held against" value={form.objective} values={(objectives.data ?? []).map((o) => o.name)} onChange={(objective) => set({ objective })} />
        <Field label="Sites" value={form.sites} onChange={(sites) => set({ sites })} hint="all" />
        <Field label="Agents" value={form.agents} onChange={(agents) => set({ agents })} hint="all" />
        <Field label="Targets" value={form.targets} onChange={(targets) => set({ targets })} hint="all" />
        <Field label="Tags" value={form.tags} onChange={(tags) => set({ tags })} hint="all" />
        <Field label="Labels of agents" value={form.labels} onChange={(labels) => set({ labels })} hint="all" />
        <Field wide label="Title of your own" value={form.title} onChange={(title) => set({ title })} />
        <button type="submit" className={button} disabled={!query}>
          Make the report
        </button>
      </form>
      {asked === undefined && (
        <p className="pt-6 text-soft">
          Choose a time and press <i>Make the report</i>: what got worse, before and after, since when, where and why; how available each path was; and what could not be judged. A report that comes by itself each day, week or month is a rule under{" "}
          <Link to="/settings#notifications" className={"text-ink " + link}>Settings</Link>.
        </p>
      )}
      {report.error && <Trouble error={report.error} retry={() => void report.refetch()} />}
      {report.isFetching && <p className="pt-6 text-soft">It is being made.</p>}
      {report.data && asked !== undefined && <Made report={report.data} query={asked} />}
      <section aria-labelledby="dossier" className="mt-10 border-t border-line pt-6">
        <h2 id="dossier" className="text-lg">
          Evidence for somebody else
        </h2>
        <p className="max-w-3xl text-soft">
          A dossier is one file with the report, all readings, routes both ways, runs, captures and conditions of the paths chosen above, and a signed list of what is in it. Who gets it checks it with <code>woodlark dossier check FILE</code>.
        </p>
        <div className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-3">
          <Tick label="Replace addresses of our own" on={mask} set={setMask} />
          {query && chosen(form) ? (
            <a className={button} href={"/api/v1/dossiers/file?" + query.toString() + (mask ? "&mask=true" : "")} download>
              Download the dossier
            </a>
          ) : (
            <p className="pb-1.5 text-soft">Choose paths above, by site, agent, target or tag.</p>
          )}
        </div>
        {key.data && (
          <p className="pt-3 text-sm text-soft">
            It is signed with the key <span className="figures break-all text-ink">{key.data.fingerprint}</span>: tell that by another way.
          </p>
        )}
      </section>
    </>
  );
}

const files: [string, string][] = [["html", "One page of HTML"], ["pdf", "PDF"], ["csv", "CSV"], ["json", "JSON"]];

function Made({ report: r, query }: { report: PeriodReport; query: string }) {
  return (
    <section aria-labelledby="made" className="pt-6">
      <h2 id="made" className="text-lg">
        {r.title}
      </h2>
      <p className="text-sm text-soft" title={exactly(r.made_at)}>
        {when(r.from_at)} to {when(r.to_at)}
        {r.of && `; ${r.of}`}
      </p>
      <p className="pt-2">{r.summary}</p>
      <p className="flex flex-wrap gap-x-5 pt-2">
        {files.map(([format, name]) => (
          <a key={format} className={link} href={`/api/v1/reports/period/file?format=${format}&${query}`} target="_blank" rel="noreferrer">
            {name}
          </a>
        ))}
      </p>
      {(r.incidents ?? []).map((x) => (
        <p key={x.id} className="mt-3 border-l-2 border-ochre pl-3">
          {x.sentence} <span className="text-soft">{x.advice}</span>
        </p>
      ))}
      {(r.degraded ?? []).length > 0 && (
        <table className="mt-4 w-full">
          <thead className="text-sm text-soft">
            <tr>
              <th scope="col" className="text-left font-normal">Path</th>
              <th scope="col" className="text-left font-normal">What</th>
              <th scope="col" className="pl-4 text-right font-normal whitespace-nowrap">Worse for</th>
            </tr>
          </thead>
          <tbody>
            {(r.degraded ?? []).map((d) => (
              <tr key={d.path_id} className="border-t border-line align-top">
                <th scope="row" className="py-1.5 pr-6 text-left font-normal md:whitespace-nowrap">
                  <Link to={"/paths/" + d.path_id} className={link}>{d.from} → {d.to}</Link> <span className="text-soft">IPv{d.family}</span>
                </th>
                <td className="py-1.5">
                  {(d.episodes ?? []).map((e) => (
                    <span key={e.id} className="block">
                      <StateMark state={e.kind === "lost" ? "lost" : "degraded"} /> <span className="text-soft" title={exactly(e.began_at)}>since {when(e.began_at)}{e.ended_at && ` until ${when(e.ended_at)}`}</span> {e.sentence}
                    </span>
                  ))}
                </td>
                <td className="figures py-1.5 pl-4 text-right whitespace-nowrap">{span(d.cost_s * 1000)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {(r.not_judged ?? []).length > 0 && (
        <details className="pt-4">
          <summary className="cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink">{r.not_judged!.length} could not be judged</summary>
          <ul>
            {r.not_judged!.map((n) => (
              <li key={n.path_id} className="border-t border-line py-1">
                {n.from} → {n.to}: <span className="text-soft">{n.says}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}
