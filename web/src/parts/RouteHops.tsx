import type { TraceReport } from "../api";
import { ms, percent, when } from "../format";

type Hop = NonNullable<TraceReport["hops"]>[number];
type Node = NonNullable<Hop["nodes"]>[number];

/** RouteHops lists the hops of a trace, branches indented, with what each adds and what carries on. */
export function RouteHops({ report }: { report: TraceReport }) {
  const hops = report.hops ?? [];
  const most = Math.max(0.001, ...hops.map((h) => h.carried_added_ms ?? 0));
  return (
    <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="Hops">
      <table className="figures w-full min-w-xl">
        <thead className="text-sm text-soft">
          <tr>
            <th scope="col" className="w-10 pr-3 text-left font-normal">Hop</th>
            <th scope="col" className="text-left font-normal">Who</th>
            <th scope="col" className="text-left font-normal">Delay added</th>
            <th scope="col" className="text-right font-normal">So far, ms</th>
            <th scope="col" className="text-right font-normal">Loss carried, %</th>
            <th scope="col" className="pl-4 text-right font-normal">Answers spared, %</th>
          </tr>
        </thead>
        <tbody>
          {hops.map((h) => (
            <HopRows key={h.ttl} hop={h} most={most} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function HopRows({ hop, most }: { hop: Hop; most: number }) {
  const nodes = hop.nodes ?? [];
  const added = Math.max(0, hop.carried_added_ms ?? 0);
  const spared = hop.spares && hop.loss_ratio != null && hop.carried_loss_ratio != null ? hop.loss_ratio - hop.carried_loss_ratio : null;
  return (
    <>
      <tr className="border-t border-line align-baseline">
        <td className="py-1">{hop.ttl}</td>
        <th scope="row" className="py-1 text-left font-normal">
          {nodes.length === 0 ? <span className="text-soft">nobody answers</span> : nodes.length === 1 ? <Who node={nodes[0]!} /> : <span>{nodes.length} {hop.per_packet ? "by packet: one flow meets them all" : "by flow"}</span>}
        </th>
        <td className="whitespace-nowrap">
          <span aria-hidden="true" className="mr-2 inline-block h-2.5 bg-ink/60 align-middle" style={{ width: Math.max(1, (added / most) * 96) }} />
          {hop.added_ms == null ? "–" : `${hop.added_ms < 0 ? "−" : "+"}${ms(Math.abs(hop.added_ms))} ms`}
        </td>
        <td className="text-right">{ms(hop.rtt_median_ms)}</td>
        <td className={"text-right " + (hop.carried_loss_ratio ? "text-plum" : "")}>{hop.answered === 0 ? "–" : percent(hop.carried_loss_ratio)}</td>
        <td className="text-right">{spared == null ? "·" : percent(spared)}</td>
      </tr>
      {nodes.length > 1 &&
        nodes.map((n, i) => (
          <tr key={n.address} className="align-baseline">
            <td />
            <th scope="row" className="py-0.5 pl-5 text-left font-normal">
              <span aria-hidden="true" className="mr-2 text-soft">{i === nodes.length - 1 ? "└" : "├"}</span>
              <Who node={n} />
            </th>
            <td className="text-soft">{hop.per_packet ? "" : `${Math.round(n.share_ratio * 100)} % of flows`}</td>
            <td className="text-right">{ms(n.rtt_median_ms)}</td>
            <td />
            <td />
          </tr>
        ))}
    </>
  );
}

function Who({ node }: { node: Node }) {
  const notes = [node.owner && `${node.owner} (${node.segment})`, node.labels?.length && `label ${node.labels.join(", ")}`, node.interface && `in by ${node.interface}`,
    node.rewritten_to && `sees the target as ${node.rewritten_to}`, node.refusal && `refuses: ${node.refusal}`, node.mtu && `takes ${node.mtu} bytes`].filter(Boolean);
  return (
    <span>
      {node.name || node.address} {node.name && <span className="text-sm text-soft">{node.address}</span>} <span className="text-sm text-soft">{notes.join("; ")}</span>
    </span>
  );
}

/** RouteChanges lists what differs from an earlier route. */
export function RouteChanges({ report }: { report: TraceReport }) {
  const c = report.compared;
  if (!c) return null;
  const lines = (c.lines ?? []).filter((l) => l.change !== "same");
  const says: Record<string, (l: (typeof lines)[number]) => string> = {
    new: (l) => `new at hop ${l.ttl}`,
    gone: (l) => `gone from hop ${l.ttl_was}`,
    moved: (l) => `hop ${l.ttl}, was ${l.ttl_was}`,
    share: (l) => `${Math.round(l.share_ratio * 100)} % of the flows, was ${Math.round(l.share_was_ratio * 100)} %`,
  };
  const marks: Record<string, string> = { new: "+", gone: "−", moved: "~", share: "~" };
  return (
    <div>
      <p>
        {c.changed ? "It differs from " : "The same way as "}
        {c.with}
        {c.at && `, of ${when(c.at)}`}
        {c.step_ms != null && c.changed && `; the round trip is ${ms(Math.abs(c.step_ms))} ms ${c.step_ms < 0 ? "shorter" : "longer"}`}.
      </p>
      <ul className="figures mt-1">
        {lines.map((l) => (
          <li key={l.change + l.address} className="flex flex-wrap gap-x-3">
            <span aria-hidden="true" className={"w-3 " + (l.change === "new" ? "text-ochre" : l.change === "gone" ? "text-plum" : "text-soft")}>{marks[l.change]}</span>
            <span>{l.name || l.address}</span>
            <span className="text-soft">{says[l.change]?.(l)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** RouteBranches lists the ways that flows take from end to end. */
export function RouteBranches({ report }: { report: TraceReport }) {
  const branches = report.branches ?? [];
  if (branches.length < 2) return null;
  const names = new Map((report.hops ?? []).flatMap((h) => (h.nodes ?? []).map((n) => [n.address, n.name || n.address] as const)));
  return (
    <table className="figures mt-3 w-full">
      <thead className="text-sm text-soft">
        <tr>
          <th scope="col" className="text-left font-normal">Branch by</th>
          <th scope="col" className="text-right font-normal">Of the flows, %</th>
          <th scope="col" className="text-right font-normal">RTT, ms</th>
          <th scope="col" className="text-right font-normal">Loss, %</th>
        </tr>
      </thead>
      <tbody>
        {branches.map((b) => (
          <tr key={(b.hops ?? []).join()} className="border-t border-line">
            <th scope="row" className="py-1 text-left font-normal">
              {b.dead ? `nothing comes through behind hop ${(b.hops ?? []).length}` : (b.own ?? []).map((ttl) => b.hops?.[ttl - 1]).filter(Boolean).map((a) => names.get(a!) ?? a).join(", ") || "hops that do not answer"}
            </th>
            <td className="text-right" title={b.share_low_ratio != null && b.share_high_ratio != null ? `${Math.round(b.share_low_ratio * 100)} to ${Math.round(b.share_high_ratio * 100)} % at 95 %` : undefined}>
              {Math.round(b.share_ratio * 100)}
            </td>
            <td className="text-right">{ms(b.rtt_median_ms)}</td>
            <td className={"text-right " + (b.loss_ratio ? "text-plum" : "")}>{percent(b.loss_ratio)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
