import type { Run, TwoEnded } from "../api";
import { bits, ms, percent } from "../format";
import { Mirror, type Stretch } from "../parts/Mirror";
import type { Panel } from "./panel";
import { Between, Sides, sides } from "./sides";

type Report = NonNullable<TwoEnded["throughput"]>;

function Found({ run }: { run: Run }) {
  const r = run.result as Report | undefined;
  const { there, back } = sides(r?.directions);
  const strip = (d: typeof there): Stretch[] => (d?.spans ?? []).map((i) => ({ start: i.start_s, length: i.span_s, value: i.received_bps, faint: i.warm_up }));
  const rows: [string, (d: NonNullable<typeof there>) => string][] = [
    ["Received, payload", (d) => bits(d.received_bps)],
    ["On the line", (d) => bits(d.received_line_bps)],
    ["Mean of repeats", (d) => ((r?.repeats ?? []).length > 2 ? bits(d.trimmed_mean_bps) : "–")],
    ["Sent", (d) => bits(d.sent_bps)],
    ["Loss", (d) => (d.loss_ratio == null ? "–" : percent(d.loss_ratio) + " %")],
    ["Sent again", (d) => (d.resent_segments == null ? "–" : `${d.resent_segments} segments`)],
    ["RTT at rest", (d) => ms(d.rtt_rest_ms) + " ms"],
    ["RTT under load", (d) => ms(d.rtt_load_ms) + " ms"],
    ["TCP efficiency", (d) => (d.tcp_efficiency_ratio == null ? "–" : percent(d.tcp_efficiency_ratio) + " %")],
    ["Buffer delay", (d) => (d.buffer_delay_ratio == null ? "–" : percent(d.buffer_delay_ratio) + " %")],
  ];
  return (
    <Between run={run}>
      {r && (
        <>
          {r.note && <p className="pb-2 text-soft">{r.note}</p>}
          <Mirror there={strip(there)} back={strip(back)} unit="" format={(v) => bits(v)} names={[there?.direction ?? "", back?.direction ?? ""]} what="Payload received each second" />
          <Sides rows={rows} there={there} back={back} />
        </>
      )}
    </Between>
  );
}

export const throughput: Panel = {
  label: "Throughput",
  first: ["for", "protocol", "rate_bps", "streams", "direction", "repeats", "search", "yardstick", "dscp"],
  to: "To",
  hint: "",
  says: "It fills the way for as long as it lasts: other load runs of the two sites wait, and what is measured beside it is marked.",
  repeat: "6h",
  Found,
};
