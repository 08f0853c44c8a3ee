import type { Agent, Kind, Watch, WatchSpec } from "./api";
import { valuesOf } from "./kinds/values";

/** WatchForm is what stands in the form of a watch. */
export type WatchForm = {
  name: string;
  kind: string;
  from: string;
  to: string;
  back: boolean;
  /** how it says when */
  when: "always" | "repeat" | "cron";
  repeat: string;
  poisson: boolean;
  cron: string;
  zone: string;
  hours: string;
  start: string;
  end: string;
  tags: string;
  paused: boolean;
  how: Record<string, string>;
  /** also is what else is measured between the same ends */
  also: PartForm[];
  /** kept is what the form has no field for, and keeps */
  kept: Record<string, unknown>;
};

/** PartForm is what stands in the form of a measurement beside the first. */
export type PartForm = { key: number; kind: string; repeat: string; how: Record<string, string>; kept: Record<string, unknown> };

/** some are those of the fields of an object that are said. */
const some = (all: Record<string, unknown>, names: string[]) => Object.fromEntries(names.filter((n) => all[n] != null).map((n) => [n, all[n]]));

/** howOf is what the fields of a kind say. */
function howOf(all: Record<string, unknown>, kind: Kind | undefined): Record<string, string> {
  const how: Record<string, string> = {};
  for (const f of kind?.fields ?? []) {
    const v = all[f.name];
    if (v != null) how[f.name] = Array.isArray(v) ? v.join(", ") : String(v);
  }
  return how;
}

/** partOf is a new measurement beside the others. */
export const partOf = (kind: Kind, others: PartForm[]): PartForm => ({ key: Math.max(0, ...others.map((p) => p.key)) + 1, kind: kind.name, repeat: kind.continuous ? "5m" : "15m", how: {}, kept: {} });

/** list are the words of a text, with commas or lines between: names may have blanks. */
export const list = (text: string) => [
  ...new Set(
    text
      .split(/[,\n]+/)
      .map((w) => w.trim())
      .filter(Boolean),
  ),
];

/** fresh is the form of a watch that is new. */
export const fresh = (kind: string, zone: string): WatchForm => ({
  name: "", kind, from: "", to: "", back: false, when: "always", repeat: "5m", poisson: false, cron: "0 9-17 * * MON-FRI", zone, hours: "", start: "", end: "", tags: "", paused: false, how: {}, also: [], kept: {},
});

/** local is a time as a field of date and time has it, in the zone of the reader. */
export function local(at: string | undefined): string {
  if (!at) return "";
  const t = new Date(at);
  return new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** formOf is what the form says of a watch that is there. */
export function formOf(w: Watch, kind: Kind | undefined, kinds: Kind[] = []): WatchForm {
  const how = howOf(w as unknown as Record<string, unknown>, kind);
  const also = (w.also ?? []).map((p, i) => {
    const all = p as unknown as Record<string, unknown>;
    return { key: i + 1, kind: p.kind, repeat: p.repeat ?? "", how: howOf(all, kinds.find((k) => k.name === p.kind)), kept: some(all, ["spread", "cron", "zone", "start_at", "end_at", "hours"]) };
  });
  return {
    name: w.name, kind: w.kind ?? "", from: (w.from ?? []).join(", "), to: (w.to ?? []).join("\n"), back: w.and_back ?? false,
    when: w.cron ? "cron" : w.repeat ? "repeat" : "always", repeat: w.repeat || "5m", poisson: w.spread === "poisson", cron: w.cron || "0 9-17 * * MON-FRI", zone: w.zone ?? "", hours: w.hours ?? "",
    start: local(w.start_at), end: local(w.end_at), tags: (w.tags ?? []).join(", "), paused: w.paused ?? false, how, also,
    kept: some(w as unknown as Record<string, unknown>, ["bytes_per_day_most", "suspicion_packets_per_day_most"]),
  };
}

/** specOf is what a form says, as the service takes it. */
export function specOf(form: WatchForm, kind: Kind | undefined, kinds: Kind[] = []): WatchSpec {
  const timed = form.when === "cron" || form.hours.trim() !== "";
  const at = (text: string) => (text ? new Date(text).toISOString() : undefined);
  const spec = {
    name: form.name.trim(), kind: form.kind, from: list(form.from), to: list(form.to),
    ...(form.back ? { and_back: true } : {}),
    ...(form.when === "repeat" ? { repeat: form.repeat.trim(), ...(form.poisson ? { spread: "poisson" } : {}) } : {}),
    ...(form.when === "cron" ? { cron: form.cron.trim() } : {}),
    ...(timed && form.zone.trim() ? { zone: form.zone.trim() } : {}),
    ...(form.hours.trim() ? { hours: form.hours.trim() } : {}),
    ...(at(form.start) ? { start_at: at(form.start) } : {}),
    ...(at(form.end) ? { end_at: at(form.end) } : {}),
    ...(list(form.tags).length ? { tags: list(form.tags) } : {}),
    ...(form.paused ? { paused: true } : {}),
    ...form.kept,
    ...(form.also.length ? { also: form.also.map((p) => partSpec(p, kinds.find((k) => k.name === p.kind))) } : {}),
    ...valuesOf((kind?.fields ?? []).filter((f) => !f.of_hand), form.how),
  };
  return spec as WatchSpec;
}

const partSpec = (p: PartForm, kind: Kind | undefined) => ({
  kind: p.kind, ...(p.repeat.trim() ? { repeat: p.repeat.trim() } : {}), ...p.kept, ...valuesOf((kind?.fields ?? []).filter((f) => !f.of_hand), p.how),
});

/** chips are words that mean agents: each by its name, then sites and labels that several have. */
export function chips(agents: Agent[]): string[] {
  const count = (words: string[]) => [...new Set(words)].filter((w) => words.filter((x) => x === w).length > 1);
  const sites = count(agents.map((a) => a.site ?? "").filter(Boolean)).map((s) => "site:" + s);
  const labels = [...new Set(agents.flatMap((a) => (a.labels ?? "").split(",").map((l) => l.trim()).filter(Boolean)))].map((l) => "label:" + l);
  return [...agents.map((a) => a.name), ...sites, ...labels];
}

/** toggled is a list of words with one more, or one less. */
export function toggled(text: string, word: string): string {
  const words = list(text);
  return (words.includes(word) ? words.filter((w) => w !== word) : [...words, word]).join(", ");
}

/** cost is what a watch costs, in words. */
export function cost(w: Watch): string {
  const many = (n: number) => Math.round(n).toLocaleString("en-GB");
  const bytes = (n: number) => (n >= 1e9 ? `${(n / 1e9).toFixed(1)} GB` : n >= 1e6 ? `${(n / 1e6).toFixed(1)} MB` : `${(n / 1e3).toFixed(0)} kB`);
  return [
    `${many(w.paths)} ${w.paths === 1 ? "path" : "paths"}`,
    w.probes_per_day ? `${many(w.probes_per_day)} packets a day` : "",
    w.bytes_per_day ? `${bytes(w.bytes_per_day)} a day` : "",
    w.rows_per_day ? `${many(w.rows_per_day)} rows a day kept` : "",
    w.load_s_per_day ? `fills its paths for ${many(w.load_s_per_day)} s a day` : "",
  ]
    .filter(Boolean)
    .join(", ");
}

/** rhythm says when a watch measures. */
export function rhythm(w: Pick<Watch, "cron" | "zone" | "repeat" | "spread" | "hours">): string {
  const when = w.cron ? `at ${w.cron} ${w.zone || "UTC"}` : w.repeat ? `each ${short(w.repeat)}${w.spread === "poisson" ? ", at random" : ""}` : "without a pause";
  return w.hours ? `${when}, ${w.hours}${w.cron ? "" : ` ${w.zone || "UTC"}`}` : when;
}

/** short is a span without what is nothing: 15m for 15m0s. */
export const short = (span: string) => span.replace(/(\D)0s$/, "$1").replace(/(\D)0m$/, "$1");
