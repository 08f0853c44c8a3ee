import { Checkbox, Field as Labelled, Label } from "@headlessui/react";
import { Choice } from "./Choice";
import { Field } from "./Field";

/** Wanted is what a measurement with two ends is to be, as it stands in the form. */
export type Wanted = {
  to: string;
  length: string;
  dscp: string;
  direction: string;
  protocol: string;
  rate: string;
  streams: string;
  repeats: string;
  yardstick: boolean;
  search: boolean;
  codec: string;
  buffer: string;
  reflector: boolean;
  address: string;
};

/** usual is what stands in the form at first. */
export const usual = (kind: "throughput" | "stream"): Wanted => ({
  to: "",
  length: "10s",
  dscp: "",
  direction: kind === "throughput" ? "each" : "both",
  protocol: "tcp",
  rate: "20",
  streams: "1",
  repeats: "1",
  yardstick: false,
  search: false,
  codec: "G.711",
  buffer: "fixed",
  reflector: false,
  address: "",
});

/** requestOf is the request that asks for it. */
export function requestOf(kind: "throughput" | "stream", w: Wanted) {
  if (w.reflector) return { reflector: true };
  if (kind === "stream") return { direction: w.direction, ...(w.codec === "none" ? {} : { codec: w.codec, buffer: w.buffer }) };
  const udp = w.protocol === "udp" ? { rate_bps: Number(w.rate) * 1e6, ...(w.search ? { search: true } : {}) } : {};
  return { direction: w.direction, protocol: w.protocol, streams: Number(w.streams), ...(w.repeats === "1" ? {} : { repeats: Number(w.repeats) }), ...(w.yardstick ? { yardstick: true } : {}), ...udp };
}

/** TwoEndsForm asks for what a measurement with two ends needs to know. */
export function TwoEndsForm({ kind, wanted: w, others, want }: { kind: "throughput" | "stream"; wanted: Wanted; others: string[]; want: (some: Partial<Wanted>) => void }) {
  return (
    <>
      {kind === "stream" && <Choice needed label="With" value={w.reflector ? "a STAMP reflector" : "an agent"} values={["an agent", "a STAMP reflector"]} onChange={(v) => want({ reflector: v !== "an agent" })} />}
      {w.reflector ? <Field label="Its address" value={w.address} onChange={(address) => want({ address })} hint="192.0.2.9:862" /> : <Choice needed label="To" value={w.to || others[0] || ""} values={others} onChange={(to) => want({ to })} />}
      <Field narrow label="For" value={w.length} onChange={(length) => want({ length })} />
      {kind === "throughput" && (
        <>
          <Choice needed label="By" value={w.protocol} values={["tcp", "udp"]} onChange={(protocol) => want({ protocol })} />
          {w.protocol === "udp" && <Field label={w.search ? "At most, Mbit/s" : "Rate, Mbit/s"} value={w.rate} onChange={(rate) => want({ rate })} />}
          <Field narrow label="Streams" value={w.streams} onChange={(streams) => want({ streams })} />
          <Choice needed label="Direction" value={w.direction} values={["each", "there", "back", "both"]} onChange={(direction) => want({ direction })} />
          <Field narrow label="Times" value={w.repeats} onChange={(repeats) => want({ repeats })} />
          {w.protocol === "udp" && <Tick label="Search the highest rate without loss" on={w.search} set={(search) => want({ search })} />}
          <Tick label="Own machines first" on={w.yardstick} set={(yardstick) => want({ yardstick })} />
        </>
      )}
      {kind === "stream" && !w.reflector && (
        <>
          <Choice needed label="As" value={w.codec} values={["G.711", "G.729A", "G.722", "Opus", "video-720p", "video-1080p", "none"]} onChange={(codec) => want({ codec })} />
          <Choice needed label="Direction" value={w.direction} values={["both", "there", "back"]} onChange={(direction) => want({ direction })} />
          {w.codec !== "none" && !w.codec.startsWith("video") && <Choice needed label="De-jitter buffer" value={w.buffer} values={["fixed", "adaptive"]} onChange={(buffer) => want({ buffer })} />}
        </>
      )}
      <Field narrow label="DSCP" value={w.dscp} onChange={(dscp) => want({ dscp })} hint="EF" />
    </>
  );
}

function Tick({ label, on, set }: { label: string; on: boolean; set: (on: boolean) => void }) {
  return (
    <Labelled className="flex items-center gap-2 self-end pb-2 text-sm text-soft">
      <Checkbox checked={on} onChange={set} className="group size-4 cursor-pointer border border-ink">
        <span aria-hidden="true" className="hidden h-full w-full bg-ink group-data-checked:block" />
      </Checkbox>
      <Label className="cursor-pointer">{label}</Label>
    </Labelled>
  );
}
