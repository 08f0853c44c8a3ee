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
};

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
  name: "", kind, from: "", to: "", back: false, when: "always", repeat: "5m", poisson: false, cron: "0 9-17 * * MON-FRI", zone, hours: "", start: "", end: "", tags: "", paused: false, how: {},
});

/** local is a time as a field of date and time has it, in the zone of the reader. */
export function local(at: string | undefined): string {
  if (!at) return "";
  const t = new Date(at);
  return new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** formOf is what the form says of a watch that is there. */
export function formOf(w: Watch, kind: Kind | undefined): WatchForm {
  const all = w as unknown as Record<string, unknown>;
  const how: Record<string, string> = {};
  for (const f of kind?.fields ?? []) {
    const v = all[f.name];
    if (v != null) how[f.name] = Array.isArray(v) ? v.join(", ") : String(v);
  }
  return {
    name: w.name, kind: w.kind ?? "", from: (w.from ?? []).join(", "), to: (w.to ?? []).join("\n"), back: w.and_back ?? false,
    when: w.cron ? "cron" : w.repeat ? "repeat" : "always", repeat: w.repeat || "5m", poisson: w.spread === "poisson", cron: w.cron || "0 9-17 * * MON-FRI", zone: w.zone ?? "", hours: w.hours ?? "",
    start: local(w.start_at), end: local(w.end_at), tags: (w.tags ?? []).join(", "), paused: w.paused ?? false, how,
  };
}

/** specOf is what a form says, as the service takes it. */
export function specOf(form: WatchForm, kind: Kind | undefined): WatchSpec {
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
    ...valuesOf((kind?.fields ?? []).filter((f) => !f.of_hand), form.how),
  };
  return spec as WatchSpec;
}

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
export function rhythm(w: Watch): string {
  const when = w.cron ? `at ${w.cron} ${w.zone || "UTC"}` : w.repeat ? `each ${short(w.repeat)}${w.spread === "poisson" ? ", at random" : ""}` : "without a pause";
  return w.hours ? `${when}, ${w.hours}${w.cron ? "" : ` ${w.zone || "UTC"}`}` : when;
}

/** short is a span without what is nothing: 15m for 15m0s. */
export const short = (span: string) => span.replace(/(\D)0s$/, "$1").replace(/(\D)0m$/, "$1");
