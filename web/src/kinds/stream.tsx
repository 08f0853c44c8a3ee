import type { Run, TwoEnded } from "../api";
import { ms, percent } from "../format";
import { Mirror, type Stretch } from "../parts/Mirror";
import type { Panel } from "./panel";
import { Between, Sides, sides } from "./sides";

type Report = NonNullable<TwoEnded["stream"]>;

function Found({ run }: { run: Run }) {
  const r = run.result as Report | undefined;
  const { there, back } = sides(r?.directions);
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
    <Between run={run}>
      {r && (
        <>
          <Mirror there={strip(there)} back={strip(back)} unit="ms" format={(v) => ms(v)} names={[there?.direction ?? "", back?.direction ?? ""]} what="Jitter" />
          <Sides rows={rows} there={there} back={back} />
          <p className="pt-2 text-sm text-soft">
            {r.clock.in_step ? "Both ends’ clocks are in step" : r.clock.offset_ms == null ? "The clocks are not known to be in step: there is no one-way delay" : `The far clock is ${r.clock.offset_ms < 0 ? "behind" : "ahead"} by ${ms(Math.abs(r.clock.offset_ms))} ms; that is taken out`}
            {r.clock.error_ms ? `, to within ${ms(r.clock.error_ms)} ms.` : "."}
          </p>
        </>
      )}
    </Between>
  );
}

export const stream: Panel = {
  label: "Stream",
  first: ["for", "codec", "direction", "buffer", "dscp", "reflector"],
  usual: { codec: "g711" },
  to: "To",
  hint: "",
  says: "Packets leave at their moments, each way; delay, variation, loss and order are told for each direction by itself.",
  repeat: "15m",
  Found,
};
