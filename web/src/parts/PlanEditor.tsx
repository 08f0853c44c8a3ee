import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { post, type PlanChange } from "../api";
import type { Estimated } from "../kinds/accept/types";
import { kindName } from "../kinds/accept/words";
import { bytes, incomplete, planOf, service, type Part, type PlanForm, type ServiceForm } from "../planForm";
import { Choice } from "./Choice";
import { Field } from "./Field";
import { Tick } from "./KindForm";

const templates = ["y1541-0", "y1541-1", "y1541-2", "y1541-3", "y1541-4", "y1541-6", "y1541-7", ...["metro", "regional", "continental", "global"].flatMap((t) => ["high", "medium", "low"].map((c) => `mef-${t}-${c}`))];

const row = "flex flex-wrap items-end gap-x-6 gap-y-4";

/** PlanEditor is a plan as a form; what it takes is said as it is typed. */
export function PlanEditor({ form, change }: { form: PlanForm; change: (f: PlanForm) => void }) {
  const set = (values: Partial<PlanForm>) => change({ ...form, ...values });
  const about = (key: keyof PlanForm["about"], label: string, wide?: boolean) => <Field label={label} wide={wide} value={form.about[key]} onChange={(v) => set({ about: { ...form.about, [key]: v } })} />;
  return (
    <div className="space-y-6">
      <div className={row}>
        <Field label="Name of the plan" wide value={form.name} onChange={(name) => set({ name })} hint="Gannet Bay fibre" />
        <Choice above needed label="Directions" value={form.returned ? "returned by the far end" : form.direction} values={["both", "each", "there", "back", "returned by the far end"]} onChange={(v) => (v.startsWith("returned") ? set({ returned: true }) : set({ returned: false, direction: v }))} />
        <Field label="Line, bit/s" value={form.line} onChange={(line) => set({ line })} hint="1G" title="What percents are of, with preamble and gap" />
        <Choice above needed label="Rates are of" value={form.layer} values={["payload", "ip", "frame", "line"]} onChange={(layer) => set({ layer })} />
        <Field label="Rest between trials" value={form.wait} onChange={(wait) => set({ wait })} hint="5s" />
      </div>
      <Carrier form={form} set={set} />
      <fieldset className="border-t border-line pt-3">
        <legend className="pr-4">
          <Tick label="By frame size (RFC 2544): fills the circuit, which must be out of service" on={form.bySize} set={(bySize) => set({ bySize })} />
        </legend>
        {form.bySize && (
          <div className="space-y-4">
            <div className={row}>
              <Field label="Up to this rate" value={form.rate} onChange={(rate) => set({ rate })} hint="100M" title="100M; there 100M back 20M; 1488fps; or 95% of the line" />
              <Field label="Frame sizes, bytes" wide value={form.sizes} onChange={(sizes) => set({ sizes })} hint="64, 128, 256, 512, 1024, 1280, 1518" />
              <Field label="From this rate" value={form.least} onChange={(least) => set({ least })} hint="1%" title="The lowest that is looked for; a hundredth of the highest when left out" />
              <Field label="Found within" value={form.within} onChange={(within) => set({ within })} hint="0.1%" />
              <Field label="Reached within" value={form.reached} onChange={(reached) => set({ reached })} hint="0.1%" title="By how much what arrives may fall short of what was offered" />
            </div>
            {sizeParts.map((p) => (
              <SizePart key={p} p={p} form={form} set={set} />
            ))}
            <div className={row}>
              {(["throughput", "latency", "variation", "loss", "burst_frames"] as const).map((p) => (
                <Field
                  key={p}
                  label={{ throughput: "Throughput at least", latency: "Delay at most", variation: "Variation at most", loss: "Loss at most", burst_frames: "Burst at least, frames" }[p]}
                  value={form.limits[p]}
                  onChange={(v) => set({ limits: { ...form.limits, [p]: v } })}
                  hint={{ throughput: "95M", latency: "10ms", variation: "3ms", loss: "0.1%", burst_frames: "100" }[p]}
                />
              ))}
            </div>
          </div>
        )}
      </fieldset>
      <fieldset className="border-t border-line pt-3">
        <legend className="pr-4">
          <Tick label="By service (ITU-T Y.1564): sends what was bought" on={form.byService} set={(byService) => set({ byService })} />
        </legend>
        {form.byService && (
          <div className="space-y-4">
            {form.services.map((s) => (
              <OneService key={s.id} s={s} change={(x) => set({ services: form.services.map((o) => (o.id === s.id ? x : o)) })} onLink={form.over === "ethernet"} remove={form.services.length > 1 ? () => set({ services: form.services.filter((o) => o.id !== s.id) }) : undefined} />
            ))}
            <button type="button" className="cursor-pointer text-sm underline underline-offset-4" onClick={() => set({ services: [...form.services, service()] })}>
              Add a service
            </button>
            <div className={row}>
              <Tick label="Configuration, step by step" on={form.configuration} set={(configuration) => set({ configuration })} />
              <Field label="A step lasts" value={form.step} onChange={(step) => set({ step })} hint="10s" />
              <Field label="Steps, of CIR" value={form.steps} onChange={(steps) => set({ steps })} hint="25%, 50%, 75%, 100%" />
              {(["excess", "policing", "bursts"] as const).map((key) => (
                <Choice key={key} above label={{ excess: "CIR and EIR", policing: "Policing", bursts: "Bursts" }[key]} none="as usual" value={form.tried[key]} values={["yes", "no"]} onChange={(v) => set({ tried: { ...form.tried, [key]: v } })} />
              ))}
            </div>
            <div className={row}>
              <Tick label="Performance, all at once" on={form.performance} set={(performance) => set({ performance })} />
              <Field label="It lasts" value={form.performs} onChange={(performs) => set({ performs })} hint="15m" />
            </div>
          </div>
        )}
      </fieldset>
      <fieldset className="border-t border-line pt-3">
        <legend className="pr-4 text-sm text-soft">What stands on the report</legend>
        <div className={row}>
          {about("title", "Title", true)}
          {about("customer", "Customer")}
          {about("technician", "Technician")}
          {about("place", "Place")}
          {about("order", "Order")}
          {about("comment", "Comment", true)}
        </div>
      </fieldset>
    </div>
  );
}

type Set = (values: Partial<PlanForm>) => void;

/** Carrier is what carries the frames, and what is looked at first. */
function Carrier({ form, set }: { form: PlanForm; set: Set }) {
  const on = (key: keyof PlanForm["ethernet"]) => (v: string) => set({ ethernet: { ...form.ethernet, [key]: v } });
  const onLink = form.over === "ethernet";
  return (
    <>
      <div className={row}>
        <Choice above needed label="Carried by" value={onLink ? "frames on a link" : "IP and UDP"} values={["IP and UDP", "frames on a link"]} onChange={(v) => set({ over: v === "IP and UDP" ? "ip" : "ethernet" })} />
        {onLink ? (
          <>
            <Field label="Interface" value={form.ethernet.interface} onChange={on("interface")} hint="eth1" title="To send by, of the agent that tests" />
            <Field label="Far end’s hardware address" value={form.ethernet.to} onChange={on("to")} hint="found by asking" />
        </>
      ) : (
        <Choice above label="Family" none="as the far end has it" value={form.family} values={["4", "6"]} onChange={(family) => set({ family })} />
      )}
      <Field label="VLANs, outermost first" value={form.ethernet.tags} onChange={on("tags")} hint="100/5" title={"100; 100/5 with its priority; 802.1ad:200/3, 100 stacked" + (onLink ? "" : ": what the circuit adds to frames on its way")} />
      <Field label="MPLS labels" value={form.ethernet.labels} onChange={on("labels")} hint="16, 17" />
      <Field label="Largest IP packet" value={form.mtu} onChange={(mtu) => set({ mtu })} hint="1500" title="Bytes" />
      </div>
      <div className={row}>
      <Tick label="First look" on={form.look} set={(look) => set({ look })} />
      {form.look && <Field label="Tried for" value={form.lookFor} onChange={(lookFor) => set({ lookFor })} hint="10s" />}
      <Tick label="This host by itself" on={form.host} set={(host) => set({ host })} />
      {form.host && <Field label="Each size for" value={form.hostFor} onChange={(hostFor) => set({ hostFor })} hint="1s" />}
      </div>
    </>
  );
}

const sizeParts: Part[] = ["throughput", "latency", "frame_loss", "back_to_back"];
const partNames: Record<Part, string> = { throughput: "Throughput", latency: "Latency", frame_loss: "Frame loss", back_to_back: "Back-to-back" };
const usualTrials: Record<Part, string> = { throughput: "1", latency: "3", frame_loss: "1", back_to_back: "3" };
const fine = { throughput: ["loss", "Loss allowed", "0%"], latency: ["at", "At, of the throughput", "100%"], frame_loss: ["step", "Steps of", "10%"], back_to_back: ["longest", "Longest burst", "2s"] } as const;

/** SizePart is one of the tests by frame size. */
function SizePart({ p, form, set }: { p: Part; form: PlanForm; set: Set }) {
  const [key, label, hint] = fine[p];
  return (
    <div className={row} role="group" aria-label={partNames[p]}>
      <div className="w-36 pb-2">
        <Tick label={partNames[p]} on={form.parts[p]} set={(on) => set({ parts: { ...form.parts, [p]: on } })} />
      </div>
      {form.parts[p] && (
        <>
          {p !== "back_to_back" && <Field label="A trial lasts" value={form.lasts[p]} onChange={(v) => set({ lasts: { ...form.lasts, [p]: v } })} hint="10s" />}
          <Field label="Trials" value={form.trials[p]} onChange={(v) => set({ trials: { ...form.trials, [p]: v } })} hint={usualTrials[p]} />
          <Field label={label} value={form.fine[key]} onChange={(v) => set({ fine: { ...form.fine, [key]: v } })} hint={hint} />
        </>
      )}
    </div>
  );
}

function OneService({ s, onLink, change, remove }: { s: ServiceForm; onLink: boolean; change: (s: ServiceForm) => void; remove?: () => void }) {
  const set = (values: Partial<ServiceForm>) => change({ ...s, ...values });
  return (
    <div className={row + " border-l-2 border-line pl-4"} role="group" aria-label={"Service " + (s.name || "without a name")}>
      <Field label="Service" value={s.name} onChange={(name) => set({ name })} hint="calls" />
      <Field label="CIR" value={s.cir} onChange={(cir) => set({ cir })} hint="8M" />
      <Field label="EIR" value={s.eir} onChange={(eir) => set({ eir })} hint="2M" />
      <Field label="CBS, bytes" value={s.cbs} onChange={(cbs) => set({ cbs })} hint="16000" />
      <Field label="EBS, bytes" value={s.ebs} onChange={(ebs) => set({ ebs })} hint="8000" />
      <Field label="Frames" value={s.frames} onChange={(frames) => set({ frames })} hint="512 or emix:abceg" />
      {onLink ? (
        <>
          <Field label="VLAN" value={s.vlan} onChange={(vlan) => set({ vlan })} hint="the plan’s" />
          <Field label="Priority" value={s.priority} onChange={(priority) => set({ priority })} hint="5" />
        </>
      ) : (
        <Field label="DSCP" value={s.dscp} onChange={(dscp) => set({ dscp })} hint="EF" />
      )}
      <Field label="Within CIR marked" value={s.green} onChange={(green) => set({ green })} hint={onLink ? "5" : "AF31"} title="Of a service that is colour-aware: how what is within CIR is marked" />
      <Field label="Beyond it marked" value={s.yellow} onChange={(yellow) => set({ yellow })} hint={onLink ? "4 drop" : "AF32"} />
      <Field label="Policing margin" value={s.margin} onChange={(margin) => set({ margin })} hint="1%" />
      <Choice above label="Limits like" none="none" value={s.like} values={templates} onChange={(like) => set({ like })} />
      <Field label="Loss at most" value={s.loss} onChange={(loss) => set({ loss })} hint="0.1%" />
      <Field label="Delay at most" value={s.delay} onChange={(delay) => set({ delay })} hint="10ms" />
      <Field label="Variation at most" value={s.variation} onChange={(variation) => set({ variation })} hint="3ms" />
      <Field label="Availability at least" value={s.availability} onChange={(availability) => set({ availability })} hint="99.9%" />
      <Field label="Sent from" value={s.source} onChange={(source) => set({ source })} hint="address" />
      <Field label="Far end of its own" value={s.to} onChange={(to) => set({ to })} hint="address or name" />
      {remove && (
        <button type="button" onClick={remove} className="cursor-pointer self-end pb-2 text-sm text-soft underline underline-offset-4">
          Leave it out
        </button>
      )}
    </div>
  );
}

/** useEstimate asks what a form takes, a moment after it was last changed. */
export function useEstimate(form: PlanForm) {
  const [asked, setAsked] = useState(form);
  useEffect(() => {
    const timer = setTimeout(() => setAsked(form), 350);
    return () => clearTimeout(timer);
  }, [form]);
  return useQuery({
    queryKey: ["estimate", planOf(asked)],
    queryFn: () => post<Estimated, "/api/v1/estimates">("/api/v1/estimates", { kind: kindName, how: { plan: planOf(asked) } as PlanChange["how"] }),
    retry: false,
    enabled: incomplete(asked) === "",
    placeholderData: (before) => before,
  });
}

/** Takes says how long a form takes and what it sends, or what is wrong with it. */
export function Takes({ query, form }: { query: ReturnType<typeof useEstimate>; form: PlanForm }) {
  const lacks = incomplete(form);
  const e = query.data?.estimate;
  return (
    <p role="status" className="figures min-h-12 max-w-3xl">
      {lacks ? (
        <span className="text-soft">{lacks}</span>
      ) : query.error ? (
        <span className="text-plum">{query.error.message}</span>
      ) : (
        e && (
          <>
            Takes <b className="font-semibold">{spoken(e.least) === spoken(e.most) ? spoken(e.most) : `${spoken(e.least)} to ${spoken(e.most)}`}</b>, {e.trials === e.most_trials ? e.trials : `${e.trials} to ${e.most_trials}`} trials; sends up to {bytes(e.most_there_bytes)} there and {bytes(e.most_back_bytes)} back.
          </>
        )
      )}
    </p>
  );
}

/** spoken writes a span such as 16m27.4s to the second, or to the minute where it is long. */
function spoken(text: string): string {
  const m = /^(?:(\d+)h)?(?:(\d+)m)?(?:([\d.]+)s)?$/.exec(text);
  if (!m) return text;
  const seconds = Number(m[1] ?? 0) * 3600 + Number(m[2] ?? 0) * 60 + Math.round(Number(m[3] ?? 0));
  if (seconds < 120) return `${seconds} s`;
  if (seconds < 2 * 3600) return `${Math.round(seconds / 60)} min`;
  return `${Math.floor(seconds / 3600)} h ${Math.round((seconds % 3600) / 60)} min`;
}
