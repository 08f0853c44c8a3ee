import { lazy, Suspense } from "react";
import { Link } from "react-router";
import type { PartShown } from "../../api";
import { exactly, ms, percent, when } from "../../format";
import { StateMark } from "../StateMark";
import { MapPart } from "./MapPart";
import { TrendPart } from "./TrendPart";

const PlotPart = lazy(async () => ({ default: (await import("./PlotPart")).PlotPart }));

const link = "underline-offset-4 hover:underline";

/** PartBody is what a part shows. */
export function PartBody({ part: p, title }: { part: PartShown; title: string }) {
  return (
    <>
      {p.states && <States states={p.states} of={p} />}
      {p.worst && p.worst.length > 0 && <Worst list={p.worst} />}
      {p.says && p.kind === "plot" && <p className="text-sm">{p.says}</p>}
      {p.plot && (
        <Suspense fallback={null}>
          <PlotPart plot={p.plot} />
        </Suspense>
      )}
      {p.matrix && <Matrix matrix={p.matrix} title={title} />}
      {p.trend && <TrendPart trend={p.trend} name={title} />}
      {p.voice && p.voice.length > 0 && <Voice list={p.voice} />}
      {p.map && <MapPart map={p.map} />}
      {p.incidents && p.incidents.length > 0 && <Going list={p.incidents} />}
      {p.kind === "text" && <p className="whitespace-pre-line">{p.text}</p>}
      {p.says && p.kind !== "plot" && <p className="pt-1 text-sm text-soft">{p.says}</p>}
    </>
  );
}

const states = ["lost", "degraded", "unmeasured", "steady"] as const;

function States({ states: s, of }: { states: NonNullable<PartShown["states"]>; of: PartShown }) {
  // The list of paths takes one of each: of more than that it shows all of a state.
  const more = [["site", of.sites], ["agent", of.agents], ["tag", of.tags]].flatMap(([k, l]) => (l?.length === 1 ? [`&${k}=${encodeURIComponent(l[0]!)}`] : [])).join("");
  return (
    <ul className="grid grid-cols-2 gap-x-6 gap-y-1 pl-0.5 @lg:grid-cols-4">
      {states.map((name) => (
        <li key={name} data-count={name}>
          <Link to={`/?state=${name}${more}`} className={"block " + link}>
            <span className={"figures block text-3xl leading-tight font-light " + (s[name] === 0 ? "text-soft" : name === "degraded" ? "text-ochre" : name === "lost" ? "text-plum" : "")}>{s[name]}</span>
            <span className="text-sm">
              <StateMark state={name} />
            </span>
          </Link>
        </li>
      ))}
    </ul>
  );
}

type EndsOf = { path_id: string; from: string; to: string; family: number; via: string };

function Ends({ of: p }: { of: EndsOf }) {
  return (
    <Link to={"/paths/" + p.path_id} className={link}>
      {p.from} → {p.to}{" "}
      <span className="text-sm whitespace-nowrap text-soft">
        IPv{p.family}
        {p.via !== "icmp" && ` by ${p.via}`}
      </span>
    </Link>
  );
}

function Worst({ list }: { list: NonNullable<PartShown["worst"]> }) {
  return (
    <ul>
      {list.map((w) => (
        <li key={w.path_id} className="border-b border-line py-1.5 last:border-0">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <span className="whitespace-nowrap">
              <StateMark state={w.state} />
              {w.since_at && (
                <span className="text-sm text-soft" title={exactly(w.since_at)}>
                  {" "}
                  since {when(w.since_at)}
                </span>
              )}
            </span>
            <Ends of={w} />
          </div>
          <p className="text-sm">{w.sentence}</p>
        </li>
      ))}
    </ul>
  );
}

const figure = (unit: string, v: number | undefined) => (v === undefined ? "–" : unit === "ms" ? ms(v) : unit === "ratio" ? percent(v) : v.toFixed(2));

const cellInk: Record<string, string> = { degraded: "text-ochre", lost: "text-plum", unmeasured: "text-soft" };
const cellSign: Record<string, string> = { steady: "●", degraded: "◆", lost: "⊖", unmeasured: "◌" };

function Matrix({ matrix: m, title }: { matrix: NonNullable<PartShown["matrix"]>; title: string }) {
  const agents = m.agents ?? [];
  const targets = m.targets ?? [];
  const at = new Map((m.cells ?? []).map((c) => [c.row + " " + c.column, c]));
  const unit = { ms: "ms", ratio: "%", mos: "MOS" }[m.unit] ?? m.unit;
  return (
    <table className="figures w-full text-sm" data-matrix={m.cells?.length ?? 0}>
      <caption className="sr-only">{title}</caption>
      <thead>
        <tr>
          <th scope="col" className="text-left align-bottom font-normal text-soft">
            to, {unit}
          </th>
          {agents.map((a) => (
            <th key={a} scope="col" className="pl-3 text-right align-bottom font-normal text-soft">
              from {a}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {targets.map((t, column) => (
          <tr key={t} className="border-t border-line">
            <th scope="row" className="py-0.5 text-left font-normal">
              {t}
            </th>
            {agents.map((a, row) => {
              const c = at.get(row + " " + column);
              return (
                <td key={a} className="pl-3 text-right whitespace-nowrap">
                  {c && (
                    <Link to={"/paths/" + c.path_id} className={link + " " + (cellInk[c.state] ?? "")} title={`${a} → ${t}, IPv${c.family}: ${c.state}${c.others ? `, the worst of ${c.others + 1} paths` : ""}`}>
                      <span aria-hidden="true">{cellSign[c.state]}</span> <span className="sr-only">{c.state}</span> {figure(m.unit, c.value)}
                    </Link>
                  )}
                </td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Voice({ list }: { list: NonNullable<PartShown["voice"]> }) {
  return (
    <table className="figures w-full text-sm" data-voice={list.length}>
      <thead className="text-soft">
        <tr>
          {["Path", "MOS", "Who calls", "Mean RTT, ms", "Jitter, ms", "Loss, %"].map((h) => (
            <th key={h} scope="col" className={"pl-3 align-bottom font-normal first:pl-0 " + (h === "Path" || h === "Who calls" ? "text-left" : "text-right")}>
              {h}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {list.map((v) => (
          <tr key={v.path_id} className="border-t border-line" title={v.at ? exactly(v.at) : undefined}>
            <th scope="row" className="py-1 text-left font-normal">
              <Ends of={v} />
            </th>
            <td className="pl-3 text-right">{figure("mos", v.mos)}</td>
            <td className={"pl-3 whitespace-nowrap " + (v.word === "satisfied" ? "" : v.word === "unknown" ? "text-soft" : v.word === "some dissatisfied" ? "text-ochre" : "text-plum")}>{v.word}</td>
            <td className="pl-3 text-right">{figure("ms", v.rtt_mean_ms)}</td>
            <td className="pl-3 text-right">{figure("ms", v.jitter_ms)}</td>
            <td className="pl-3 text-right">{figure("ratio", v.loss_ratio)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Going({ list }: { list: NonNullable<PartShown["incidents"]> }) {
  return (
    <ul>
      {list.map((x) => (
        <li key={x.id} className="border-l-2 border-ochre py-1 pl-3">
          {x.sentence} <span className="text-soft">{x.advice}</span>
        </li>
      ))}
    </ul>
  );
}
