import type { Rule, RuleSpec } from "./api";
import { listed, words } from "./kinds/values";

/** RuleForm is what stands in the form of a rule. */
export type RuleForm = { name: string; channel: string; tells: "what happens" | "incidents only" | "a daily report" | "a weekly report" | "a monthly report"; state: string; sites: string; agents: string; targets: string; tags: string; labels: string; severity: string; hours: string; zone: string; holidays: string; remind: string; at: string; objective: string };

export const emptyRule: RuleForm = { name: "", channel: "", tells: "what happens", state: "", sites: "", agents: "", targets: "", tags: "", labels: "", severity: "", hours: "", zone: "", holidays: "", remind: "", at: "", objective: "" };

export const tells: RuleForm["tells"][] = ["what happens", "incidents only", "a daily report", "a weekly report", "a monthly report"];

const everies = { "a daily report": "daily", "a weekly report": "weekly", "a monthly report": "monthly" } as const;

export const isReport = (t: RuleForm["tells"]): t is keyof typeof everies => t in everies;

/** ruleOf is the rule that a form says, as the service takes it. */
export function ruleOf(f: RuleForm): RuleSpec {
  const out: RuleSpec = { name: f.name.trim(), channel: f.channel };
  for (const name of ["sites", "agents", "targets", "tags", "labels"] as const) {
    const list = (name === "sites" ? listed : words)(f[name]);
    if (list.length > 0) out[name] = list;
  }
  if (f.zone.trim()) out.zone = f.zone.trim();
  if (isReport(f.tells)) {
    out.report = { every: everies[f.tells], ...(f.at.trim() ? { at: f.at.trim() } : {}), ...(f.objective ? { objective: f.objective } : {}) };
    return out;
  }
  if (f.tells === "incidents only") out.incidents_only = true;
  if (f.state) out.states = [f.state as "degraded" | "lost"];
  const severity = Number(f.severity.replace(",", "."));
  if (f.severity.trim() && severity > 0) out.least_severity = severity;
  if (f.hours.trim()) out.hours = f.hours.trim();
  if (f.holidays === "quiet" || f.holidays === "only") out.holidays = f.holidays;
  if (f.remind.trim()) out.remind = f.remind.trim();
  return out;
}

/** says is a rule in a line. */
export function says(r: Rule): string {
  const parts: string[] = [];
  if (r.report) parts.push(`a report ${r.report.every}${r.report.at ? ` at ${r.report.at}` : ""}${r.report.objective ? `, held against ${r.report.objective}` : ""}`);
  else parts.push(r.incidents_only ? "incidents only" : (r.states ?? []).join(" and ") || "what gets worse and is over");
  for (const name of ["sites", "agents", "targets", "tags", "labels"] as const) if (r[name]?.length) parts.push(`${name} ${r[name]!.join(", ")}`);
  if (r.least_severity) parts.push(`from ${r.least_severity} times what is worth caring about`);
  if (r.hours) parts.push(`in the hours ${r.hours}`);
  if (r.holidays) parts.push(r.holidays === "quiet" ? "not on days off" : "on days off only");
  if (r.zone) parts.push(r.zone);
  if (r.remind) parts.push(`again after ${r.remind}`);
  return parts.join("; ");
}
