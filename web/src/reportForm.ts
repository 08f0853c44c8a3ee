import { listed, words } from "./kinds/values";

/** ReportForm is what stands in the form of a report. */
export type ReportForm = { last: string; from: string; to: string; objective: string; title: string; sites: string; agents: string; targets: string; tags: string; labels: string };

export const emptyReport: ReportForm = { last: "24 h", from: "", to: "", objective: "", title: "", sites: "", agents: "", targets: "", tags: "", labels: "" };

const hour = 3_600_000;

/** lengths are the usual lengths of a report, and their own. */
export const lengths: Record<string, number> = { "24 h": 24 * hour, "3 d": 72 * hour, "7 d": 168 * hour, "30 d": 720 * hour, "other …": 0 };

/** periodOf is from when to when a form is; undefined when it does not say so yet. */
export function periodOf(f: ReportForm, now: number): { from: Date; to: Date } | undefined {
  const length = lengths[f.last];
  if (length) return { from: new Date(now - length), to: new Date(now) };
  const [from, to] = [new Date(f.from), new Date(f.to)];
  return from.getTime() < to.getTime() ? { from, to } : undefined;
}

/** queryOf is what a form asks of the service, without the period. */
function choiceOf(f: ReportForm): [string, string][] {
  const lists: [string, string][] = [["sites", f.sites], ["agents", f.agents], ["targets", f.targets], ["tags", f.tags], ["labels", f.labels]];
  return lists.map(([name, text]) => [name, (name === "sites" ? listed : words)(text).join(",")] as [string, string]).filter(([, v]) => v !== "");
}

/** queryOf is what a form asks of the service. */
export function queryOf(f: ReportForm, now: number): URLSearchParams | undefined {
  const p = periodOf(f, now);
  if (!p) return undefined;
  const q = new URLSearchParams({ from_at: p.from.toISOString(), to_at: p.to.toISOString() });
  for (const [name, v] of choiceOf(f)) q.set(name, v);
  if (f.objective) q.set("objective", f.objective);
  if (f.title.trim()) q.set("title", f.title.trim());
  return q;
}

/** chosen reports whether paths are chosen: a dossier is of some. */
export const chosen = (f: ReportForm) => choiceOf(f).length > 0;
