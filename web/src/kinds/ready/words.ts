import { bits, ms, percent } from "../../format";
import type { AnswerWord, Criterion } from "./types";

/** kindName is what the service calls this kind. */
export const kindName = "ready";

/** needs are those that are ready-made, with what people call them. */
export const needs: Record<string, string> = { calls: "telephone calls", meetings: "meetings with picture", "remote-desk": "a desktop that runs elsewhere", "file-work": "files that lie elsewhere", kiosk: "a counter that asks a server" };

export const answers: Record<AnswerWord, string> = { fit: "Fit", fit_with_limits: "Fit, with limits", not_fit: "Not fit", not_told: "Could not be told" };

/** amount writes a figure with its unit. */
export function amount(v: number | undefined | null, unit: string | undefined): string {
  if (v == null) return "–";
  switch (unit) {
    case "ms":
      return ms(v) + " ms";
    case "bit/s":
      return bits(v);
    case "ratio":
      return percent(v) + " %";
    case "bytes":
      return `${v} bytes`;
    case "mos":
      return v.toFixed(2);
  }
  return String(v);
}

/** bound writes what a criterion is held to. */
export const bound = (c: Criterion) => (c.part === "ports" || c.limit == null ? "–" : `${c.at_least ? "≥" : "≤"} ${amount(c.limit, c.unit)}`);

/** Asked is what somebody asks in one line. */
export type Asked = { need: string; seats: string; from: string; to: string };

const aliases: Record<string, string> = { call: "calls", telephony: "calls", telephone: "calls", voice: "calls", meeting: "meetings", video: "meetings", desktop: "remote-desk", desk: "remote-desk", files: "file-work", file: "file-work", counter: "kiosk", tickets: "kiosk" };

/** askedIn reads a line such as "calls for 40 from northquay to ticketing": in whatever order, and as far as it is there. */
export function askedIn(text: string, agents: string[]): Asked {
  const list = text.trim().split(/[\s,]+/).filter(Boolean);
  const out: Asked = { need: "", seats: "", from: "", to: "" };
  const agent = (w: string) => agents.find((a) => a.toLowerCase() === w.toLowerCase());
  list.forEach((w, i) => {
    const before = list[i - 1]?.toLowerCase();
    const word = w.toLowerCase();
    if (before === "from" || before === "at") out.from = agent(w) ?? w;
    else if (before === "to" || before === "towards") out.to = agent(w) ?? w;
    else if (/^\d+$/.test(w)) out.seats = w;
    else if (word in needs) out.need = word;
    else if (aliases[word] && !out.need) out.need = aliases[word];
    else if (agent(w)) {
      if (!out.from) out.from = agent(w)!;
      else if (!out.to) out.to = agent(w)!;
    }
  });
  return out;
}
