/** A plan of an acceptance test, as a form has it: texts, as they are typed. */
export type ServiceForm = { id: number; name: string; cir: string; eir: string; cbs: string; frames: string; dscp: string; like: string; loss: string; delay: string; variation: string; availability: string; ebs: string; margin: string; green: string; yellow: string; priority: string; vlan: string; source: string; to: string };

/** Part is one of the tests by frame size. */
export type Part = "throughput" | "latency" | "frame_loss" | "back_to_back";

export type PlanForm = {
  name: string;
  about: Record<"title" | "customer" | "technician" | "place" | "order" | "comment", string>;
  direction: string;
  returned: boolean;
  over: string;
  family: string;
  mtu: string;
  ethernet: Record<"interface" | "to" | "tags" | "labels", string>;
  look: boolean;
  lookFor: string;
  host: boolean;
  hostFor: string;
  line: string;
  layer: string;
  wait: string;
  bySize: boolean;
  rate: string;
  sizes: string;
  within: string;
  least: string;
  reached: string;
  parts: Record<Part, boolean>;
  lasts: Record<"throughput" | "latency" | "frame_loss", string>;
  trials: Record<Part, string>;
  fine: Record<"loss" | "at" | "step" | "longest", string>;
  limits: Record<"throughput" | "latency" | "variation" | "loss" | "burst_frames", string>;
  byService: boolean;
  services: ServiceForm[];
  configuration: boolean;
  step: string;
  steps: string;
  tried: Record<"excess" | "policing" | "bursts", string>;
  performance: boolean;
  performs: string;
};

let made = 0;

/** service is a new one of a form. */
export const service = (name = ""): ServiceForm => ({ id: ++made, name, cir: "", eir: "", cbs: "", frames: "", dscp: "", like: "", loss: "", delay: "", variation: "", availability: "", ebs: "", margin: "", green: "", yellow: "", priority: "", vlan: "", source: "", to: "" });

/** blank is a form that says what is usual. */
export const blank = (): PlanForm => ({
  name: "",
  about: { title: "", customer: "", technician: "", place: "", order: "", comment: "" },
  direction: "both",
  returned: false,
  over: "ip",
  family: "",
  mtu: "",
  ethernet: { interface: "", to: "", tags: "", labels: "" },
  look: true,
  lookFor: "",
  host: true,
  hostFor: "",
  line: "",
  layer: "frame",
  wait: "",
  bySize: true,
  rate: "",
  sizes: "",
  within: "",
  least: "",
  reached: "",
  parts: { throughput: true, latency: true, frame_loss: true, back_to_back: true },
  lasts: { throughput: "", latency: "", frame_loss: "" },
  trials: { throughput: "", latency: "", frame_loss: "", back_to_back: "" },
  fine: { loss: "", at: "", step: "", longest: "" },
  limits: { throughput: "", latency: "", variation: "", loss: "", burst_frames: "" },
  byService: false,
  services: [service("")],
  configuration: true,
  step: "",
  steps: "",
  tried: { excess: "", policing: "", bursts: "" },
  performance: true,
  performs: "",
});

type Tree = { [key: string]: unknown };

/** said leaves out what says nothing. */
function said(o: Tree): Tree | undefined {
  const rest = Object.entries(o).filter(([, v]) => v !== "" && v !== undefined && v !== false);
  return rest.length > 0 ? Object.fromEntries(rest) : undefined;
}

const filled = (o: Tree) => (Object.keys(o).length > 0 ? o : undefined);
const whole = (text: string) => (text.trim() === "" ? undefined : Number(text.replaceAll(",", "").trim()));
/** number is a number, or the text that is none, for the service to name. */
const number = (text: string) => (Number.isNaN(Number(text)) ? text : Number(text));
const some = <T>(list: T[]) => (list.length > 0 ? list : undefined);
/** switches are those of which something is said: what is off is said, too. */
const switches = (o: Record<string, string>): Tree => Object.fromEntries(Object.entries(o).filter(([, v]) => v !== "").map(([key, v]) => [key, v === "yes"]));
/** tagOf reads a tag as people write it: 100, 100/5, 802.1ad:100/5 drop. */
function tagOf(text: string): Tree {
  const m = /^(?:(802\.1q|802\.1ad):)?(\d+)(?:\/(\d))?( +drop)?$/.exec(text);
  return m ? (said({ vlan: Number(m[2]), priority: m[3] ? Number(m[3]) : undefined, drop_eligible: !!m[4], type: m[1] ?? "" }) ?? {}) : { vlan: text };
}
const tagText = (t: unknown) => `${at(t, "type") ? text(at(t, "type")) + ":" : ""}${text(at(t, "vlan"))}${at(t, "priority") ? "/" + text(at(t, "priority")) : ""}${at(t, "drop_eligible") ? " drop" : ""}`;
const listed = (text: string) => text.split(",").map((x) => x.trim()).filter(Boolean);

/** planOf is the plan that a form says. What is no number is left as it is, for the service to name. */
export function planOf(f: PlanForm): Tree {
  const part = (p: Part, o: Tree = {}) => said({ skip: !f.parts[p], ...(f.parts[p] ? { for: p === "back_to_back" ? "" : f.lasts[p].trim(), trials: whole(f.trials[p]), ...o } : {}) });
  const onLink = f.over === "ethernet";
  return said({
    plan: f.name.trim(),
    about: said(f.about),
    direction: f.returned ? "" : f.direction === "both" ? "" : f.direction,
    ends: f.returned ? "returned" : "",
    over: onLink ? "ethernet" : "",
    family: onLink ? undefined : whole(f.family),
    mtu: whole(f.mtu),
    ethernet: said({ interface: onLink ? f.ethernet.interface.trim() : "", to: onLink ? f.ethernet.to.trim() : "", tags: some(listed(f.ethernet.tags).map(tagOf)), mpls_labels: some(listed(f.ethernet.labels).map(number)) }),
    first_look: said({ skip: !f.look, for: f.look ? f.lookFor.trim() : "" }),
    host_check: said({ skip: !f.host, for: f.host ? f.hostFor.trim() : "" }),
    line: f.line.trim(),
    layer: f.layer === "frame" ? "" : f.layer,
    wait: f.wait.trim(),
    by_size: f.bySize
      ? {
          ...said({
            sizes: some(listed(f.sizes).map(number)),
            most: f.rate.trim(),
            least: f.least.trim(),
            within: f.within.trim(),
            reached: f.reached.trim(),
            throughput: part("throughput", { loss: f.fine.loss.trim() }),
            latency: part("latency", { at: f.fine.at.trim() }),
            frame_loss: part("frame_loss", { step: f.fine.step.trim() }),
            back_to_back: part("back_to_back", { longest: f.fine.longest.trim() }),
            limits: said({ ...f.limits, burst_frames: whole(f.limits.burst_frames) }),
          }),
        }
      : undefined,
    by_service: f.byService
      ? {
          services: f.services.map((s) => ({
            service: s.name.trim(),
            ...said({ cir: s.cir.trim(), eir: s.eir.trim(), cbs_bytes: whole(s.cbs), ebs_bytes: whole(s.ebs), margin: s.margin.trim(), frames: s.frames.trim(), dscp: onLink ? "" : s.dscp.trim(), colours: said({ green: s.green.trim(), yellow: s.yellow.trim() }), priority: onLink ? whole(s.priority) : undefined, vlan: onLink ? whole(s.vlan) : undefined, source: s.source.trim(), to: s.to.trim(), limits_like: s.like, limits: said({ loss: s.loss.trim(), delay: s.delay.trim(), variation: s.variation.trim(), availability: s.availability.trim() }) }),
          })),
          ...said({
            configuration: filled({ ...said({ skip: !f.configuration, step_for: f.step.trim(), steps: some(listed(f.steps)) }), ...switches(f.tried) }),
            performance: said({ skip: !f.performance, for: f.performs.trim() }),
          }),
        }
      : undefined,
  }) ?? {};
}

/** incomplete is what a form lacks before it can be asked what it takes; empty when it can. */
export function incomplete(f: PlanForm): string {
  if (!f.bySize && !f.byService) return "Choose what to test: by frame size, by service, or both.";
  if (f.over === "ethernet" && !f.ethernet.interface.trim()) return "Frames on a link leave by an interface: name it.";
  if (f.bySize && !f.rate.trim() && !f.line.trim()) return "Say up to which rate frames are sent, or the rate of the line.";
  if (f.byService && f.services.some((s) => !s.name.trim() || (!s.cir.trim() && !s.eir.trim()))) return "Each service needs a name, and a CIR or an EIR.";
  return "";
}

const text = (v: unknown) => (v == null ? "" : String(v));
const yesOrNo = (v: unknown) => (v === true ? "yes" : v === false ? "no" : "");
const at = (o: unknown, ...path: string[]): unknown => path.reduce<unknown>((x, key) => (x && typeof x === "object" ? (x as Tree)[key] : undefined), o);

/** formOf is the form of a plan; what the form has no field for stays in rest, and is kept. */
export function formOf(plan: Tree): PlanForm {
  const f = blank();
  const g = (...path: string[]) => text(at(plan, ...path));
  for (const key of Object.keys(f.about) as (keyof PlanForm["about"])[]) f.about[key] = g("about", key);
  const size = at(plan, "by_size") as Tree | undefined;
  const by = at(plan, "by_service") as Tree | undefined;
  const list = (at(by, "services") as Tree[] | undefined) ?? [];
  return {
    ...f,
    name: g("plan"),
    direction: g("direction") || "both",
    returned: g("ends") === "returned",
    over: g("over") || "ip",
    family: g("family"),
    mtu: g("mtu"),
    ethernet: { interface: g("ethernet", "interface"), to: g("ethernet", "to"), tags: ((at(plan, "ethernet", "tags") as unknown[] | undefined) ?? []).map(tagText).join(", "), labels: ((at(plan, "ethernet", "mpls_labels") as number[] | undefined) ?? []).join(", ") },
    look: !at(plan, "first_look", "skip"),
    lookFor: g("first_look", "for"),
    host: !at(plan, "host_check", "skip"),
    hostFor: g("host_check", "for"),
    line: g("line"),
    layer: g("layer") || "frame",
    wait: g("wait"),
    bySize: size !== undefined,
    rate: text(at(size, "most")),
    sizes: ((at(size, "sizes") as number[] | undefined) ?? []).join(", "),
    within: text(at(size, "within")),
    parts: { throughput: !at(size, "throughput", "skip"), latency: !at(size, "latency", "skip"), frame_loss: !at(size, "frame_loss", "skip"), back_to_back: !at(size, "back_to_back", "skip") },
    least: text(at(size, "least")),
    reached: text(at(size, "reached")),
    lasts: { throughput: text(at(size, "throughput", "for")), latency: text(at(size, "latency", "for")), frame_loss: text(at(size, "frame_loss", "for")) },
    trials: { throughput: text(at(size, "throughput", "trials")), latency: text(at(size, "latency", "trials")), frame_loss: text(at(size, "frame_loss", "trials")), back_to_back: text(at(size, "back_to_back", "trials")) },
    fine: { loss: text(at(size, "throughput", "loss")), at: text(at(size, "latency", "at")), step: text(at(size, "frame_loss", "step")), longest: text(at(size, "back_to_back", "longest")) },
    limits: { throughput: text(at(size, "limits", "throughput")), latency: text(at(size, "limits", "latency")), variation: text(at(size, "limits", "variation")), loss: text(at(size, "limits", "loss")), burst_frames: text(at(size, "limits", "burst_frames")) },
    byService: by !== undefined,
    services: list.length > 0 ? list.map((s) => ({ ...service(text(s["service"])), cir: text(s["cir"]), eir: text(s["eir"]), cbs: text(s["cbs_bytes"]), frames: text(s["frames"]), dscp: text(s["dscp"]), like: text(s["limits_like"]), loss: text(at(s, "limits", "loss")), delay: text(at(s, "limits", "delay")), variation: text(at(s, "limits", "variation")), availability: text(at(s, "limits", "availability")), ebs: text(s["ebs_bytes"]), margin: text(s["margin"]), green: text(at(s, "colours", "green")), yellow: text(at(s, "colours", "yellow")), priority: text(s["priority"]), vlan: text(s["vlan"]), source: text(s["source"]), to: text(s["to"]) })) : f.services,
    configuration: !at(by, "configuration", "skip"),
    step: text(at(by, "configuration", "step_for")),
    steps: ((at(by, "configuration", "steps") as string[] | undefined) ?? []).join(", "),
    tried: { excess: yesOrNo(at(by, "configuration", "excess")), policing: yesOrNo(at(by, "configuration", "policing")), bursts: yesOrNo(at(by, "configuration", "bursts")) },
    performance: !at(by, "performance", "skip"),
    performs: text(at(by, "performance", "for")),
  };
}

/** unshown are the parts of a plan that the form does not show: saving the form would lose them. */
export function unshown(plan: Tree): string[] {
  const shown = planOf(formOf(plan));
  const list: string[] = [];
  const walk = (a: unknown, b: unknown, path: string) => {
    if (a && typeof a === "object" && !Array.isArray(a)) {
      for (const [key, v] of Object.entries(a)) walk(v, at(b, key), path ? path + "." + key : key);
      return;
    }
    if (Array.isArray(a) && Array.isArray(b)) {
      a.forEach((v, i) => walk(v, b[i], `${path}[${i}]`));
      return;
    }
    if (a !== undefined && a !== "" && a !== false && JSON.stringify(a) !== JSON.stringify(b)) list.push(path);
  };
  walk(plan, shown, "");
  return list;
}

/** bytes writes an amount of data. */
export const bytes = (n: number) => (n >= 1e9 ? `${(n / 1e9).toPrecision(3)} GB` : `${(n / 1e6).toPrecision(3)} MB`);
