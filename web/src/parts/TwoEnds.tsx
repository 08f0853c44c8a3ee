import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, get, type Agent, type TwoEnded, type Watch } from "../api";
import { bits, ms, percent } from "../format";
import { button, type Part } from "./Field";
import { Mirror, type Stretch } from "./Mirror";
import { TwoEndsForm, requestOf, usual, type Wanted } from "./TwoEndsForm";

/** TwoEnds asks for a bandwidth test or a stream between two agents, and shows both directions about one axis. */
export function TwoEnds({ kind, from, to: asked, id, agents, set }: Part & { kind: "throughput" | "stream"; id: string; agents: Agent[] }) {
  const others = agents.filter((a) => a.name !== from && a.health?.responder).map((a) => a.name);
  const [wanted, want] = useState<Wanted>({ ...usual(kind), to: asked });
  const to = wanted.reflector ? wanted.address : wanted.to || others[0] || "";
  const { length, dscp } = wanted;
  const request = () => requestOf(kind, wanted);
  const start = useMutation({
    mutationFn: () => call<TwoEnded>("POST", "/two-ended", { kind, from, to, for: length, dscp, request: request() }),
    onSuccess: (x) => set({ to, two: x.id }),
  });
  const watch = useMutation({
    mutationFn: () => {
      const { yardstick: _, ...rest } = request() as { yardstick?: boolean };
      return call<Watch>("POST", "/watches", { kind, name: `${kind} ${from} to ${to}`.slice(0, 100), from: [from], to: [to], every: kind === "throughput" ? "6h" : "15m", for: length, dscp, ...rest });
    },
  });
  const stop = useMutation({ mutationFn: () => call<void>("DELETE", "/two-ended/" + id) });
  const one = useQuery({
    queryKey: ["two-ended", id],
    queryFn: () => get<TwoEnded>("/two-ended/" + id),
    enabled: id !== "",
    refetchInterval: (q) => (q.state.data && q.state.data.outcome !== "running" ? false : 400),
  });
  const trouble = start.error ?? watch.error ?? one.error;
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-5" onSubmit={(e) => { e.preventDefault(); start.mutate(); }}>
        <TwoEndsForm kind={kind} wanted={wanted} others={others} want={(some) => want({ ...wanted, ...some })} />
        <button type="submit" disabled={start.isPending || !to || !from} className={button}>
          Start
        </button>
      </form>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      {others.length === 0 && !wanted.reflector && <p className="text-soft">No other agent answers as a far end. Start one with -listen; the page Agents has the command.</p>}
      {!id && !trouble && others.length > 0 && (
        <p className="text-soft">
          {kind === "throughput" ? "It fills the way for as long as it lasts: other load runs of the two sites wait, and what is measured beside it is marked." : "Packets leave at their moments, each way; delay, variation, loss and order are told for each direction by itself."}
        </p>
      )}
      {one.data && <Outcome x={one.data} />}
      {one.data && (
        <p className="pt-6">
          {one.data.outcome === "running" ? (
            <button type="button" onClick={() => stop.mutate()} className={button}>
              Stop
            </button>
          ) : wanted.reflector ? null : (
            <button type="button" disabled={watch.isPending || watch.isSuccess} onClick={() => watch.mutate()} className={button}>
              {kind === "throughput" ? "Measure it every 6 hours" : "Measure it every 15 minutes"}
            </button>
          )}{" "}
          <span className="text-sm text-soft">{watch.isSuccess && `The watch “${watch.data.name}” goes on from now.`}</span>
        </p>
      )}
    </>
  );
}

function Outcome({ x }: { x: TwoEnded }) {
  const found = (x.throughput ?? x.stream)?.findings ?? [];
  return (
    <section aria-label={`${x.from} to ${x.to}`}>
      <h2 className="text-lg">
        {x.from} → {x.to}
      </h2>
      <p role="status" className="figures pb-2 text-sm text-soft">
        {x.outcome === "running" ? `${x.says || "going on"}${x.share_ratio ? `, ${Math.round(100 * x.share_ratio)} %` : ""}` : x.outcome}
        {x.reason && `: ${x.reason}`}
      </p>
      <ul className="space-y-2 pb-3">
        {found.map((f, i) => (
          <li key={i} className="border-l-2 border-line pl-3">
            {f.sentence} <span className="text-sm text-soft">{f.advice}</span>
          </li>
        ))}
      </ul>
      {x.outcome === "running" && <Live x={x} />}
      {x.throughput && <ThroughputOf r={x.throughput} />}
      {x.stream && <StreamOf r={x.stream} />}
    </section>
  );
}

/** Live is the run that goes on, second by second. */
function Live({ x }: { x: TwoEnded }) {
  const live = x.live ?? [];
  if (live.length === 0) return null;
  const strip = (of: (s: (typeof live)[number]) => number): Stretch[] => live.map((s) => ({ start: s.start_s, length: s.span_s, value: of(s) }));
  return <Mirror there={strip((s) => s.there_bps)} back={strip((s) => s.back_bps)} unit="" format={(v) => bits(v)} names={[`${x.from} → ${x.to}`, `${x.to} → ${x.from}`]} what="Payload arriving now" />;
}

type Through = NonNullable<TwoEnded["throughput"]>;
type Streamed = NonNullable<TwoEnded["stream"]>;

const sides = <T extends { there: boolean }>(list: T[] | null | undefined) => ({ there: (list ?? []).find((d) => d.there), back: (list ?? []).find((d) => !d.there) });

function ThroughputOf({ r }: { r: Through }) {
  const { there, back } = sides(r.directions);
  const strip = (d: typeof there): Stretch[] => (d?.spans ?? []).map((i) => ({ start: i.start_s, length: i.span_s, value: i.received_bps, faint: i.warm_up }));
  const rows: [string, (d: NonNullable<typeof there>) => string][] = [
    ["Received, payload", (d) => bits(d.received_bps)],
    ["On the line", (d) => bits(d.received_line_bps)],
    ["Mean of repeats", (d) => ((r.repeats ?? []).length > 2 ? bits(d.trimmed_mean_bps) : "–")],
    ["Sent", (d) => bits(d.sent_bps)],
    ["Loss", (d) => (d.loss_ratio == null ? "–" : percent(d.loss_ratio) + " %")],
    ["Sent again", (d) => (d.resent_segments == null ? "–" : `${d.resent_segments} segments`)],
    ["RTT at rest", (d) => ms(d.rtt_rest_ms) + " ms"],
    ["RTT under load", (d) => ms(d.rtt_load_ms) + " ms"],
    ["TCP efficiency", (d) => (d.tcp_efficiency_ratio == null ? "–" : percent(d.tcp_efficiency_ratio) + " %")],
    ["Buffer delay", (d) => (d.buffer_delay_ratio == null ? "–" : percent(d.buffer_delay_ratio) + " %")],
  ];
  return (
    <>
      <Mirror there={strip(there)} back={strip(back)} unit="" format={(v) => bits(v)} names={[there?.direction ?? "", back?.direction ?? ""]} what="Payload received each second" />
      <Sides rows={rows} there={there} back={back} />
    </>
  );
}

function StreamOf({ r }: { r: Streamed }) {
  const { there, back } = sides(r.directions);
  const strip = (d: typeof there): Stretch[] => (d?.spans ?? []).map((i) => ({ start: i.start_s, length: i.span_s, value: i.jitter_ms, lost: i.lost }));
  const rows: [string, (d: NonNullable<typeof there>) => string][] = [
    ["Received", (d) => `${d.received} of ${d.sent}`],
    ["Loss", (d) => percent(d.loss_ratio) + " %"],
    ["One-way delay, median", (d) => ms(d.delay_median_ms) + " ms"],
    ["99 % within", (d) => ms(d.delay_p99_ms) + " ms"],
    ["Jitter", (d) => ms(d.jitter_ms) + " ms"],
    ["Overtaken", (d) => String(d.reordered)],
    ["Mouth to ear", (d) => (d.quality?.mouth_to_ear_ms == null ? "–" : ms(d.quality.mouth_to_ear_ms) + " ms")],
    ["R-factor", (d) => d.quality?.r_factor?.toFixed(1) ?? "–"],
    ["MOS", (d) => d.quality?.mos?.toFixed(2) ?? "–"],
  ];
  return (
    <>
      <Mirror there={strip(there)} back={strip(back)} unit="ms" format={(v) => ms(v)} names={[there?.direction ?? "", back?.direction ?? ""]} what="Jitter" />
      <Sides rows={rows} there={there} back={back} />
      <p className="pt-2 text-sm text-soft">
        {r.clock.in_step ? "Both ends’ clocks are in step" : r.clock.offset_ms == null ? "The clocks are not known to be in step: there is no one-way delay" : `The far clock is ${r.clock.offset_ms < 0 ? "behind" : "ahead"} by ${ms(Math.abs(r.clock.offset_ms))} ms; that is taken out`}
        {r.clock.error_ms ? `, to within ${ms(r.clock.error_ms)} ms.` : "."}
      </p>
    </>
  );
}

function Sides<T extends { direction: string }>({ rows, there, back }: { rows: [string, (d: T) => string][]; there?: T; back?: T }) {
  const list = [there, back].filter((d): d is T => d !== undefined);
  return (
    <table className="figures mt-2">
      <thead className="text-sm text-soft">
        <tr>
          <td />
          {list.map((d) => (
            <th key={d.direction} scope="col" className="pr-8 pb-1 text-right font-normal">
              {d.direction}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.filter(([, cell]) => list.some((d) => !cell(d).startsWith("–"))).map(([what, cell]) => (
          <tr key={what}>
            <th scope="row" className="pr-8 text-left font-normal text-soft">
              {what}
            </th>
            {list.map((d) => (
              <td key={d.direction} className="pr-8 text-right">
                {cell(d)}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
