import { rateOf } from "./kinds/values";

/** limits are what an objective may limit: its name, what it is called with its unit, and how a text of it is read. */
export const limits: { measure: string; label: string; read: (text: string) => number }[] = [
  { measure: "availability_ratio", label: "Availability, %", read: (t) => Number(t) / 100 },
  { measure: "loss_ratio", label: "Loss, %", read: (t) => Number(t) / 100 },
  { measure: "rtt_ms", label: "RTT, ms", read: Number },
  { measure: "delay_ms", label: "Delay one way, ms", read: Number },
  { measure: "jitter_ms", label: "Jitter, ms", read: Number },
  { measure: "spread_ms", label: "Mean less least, ms", read: Number },
  { measure: "variation_ms", label: "Variation, ms", read: Number },
  { measure: "mos", label: "MOS", read: Number },
  { measure: "there_bps", label: "Rate there", read: (t) => rateOf(t) ?? NaN },
  { measure: "back_bps", label: "Rate back", read: (t) => rateOf(t) ?? NaN },
];

/** limitsOf are the limits that a form says, or the label of the first that is none. */
export function limitsOf(form: Record<string, string>): { limits: Record<string, number>; wrong?: string } {
  const out: Record<string, number> = {};
  for (const l of limits) {
    const text = (form[l.measure] ?? "").trim();
    if (text === "") continue;
    const v = l.read(text.replace(",", "."));
    if (!Number.isFinite(v)) return { limits: {}, wrong: l.label };
    out[l.measure] = Number(v.toPrecision(12));
  }
  return { limits: out };
}
