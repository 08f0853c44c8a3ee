import type { KindField } from "../api";

/** rateOf reads bits a second such as 20M, 64k or 1500000; undefined when the text is none. */
export function rateOf(text: string): number | undefined {
  const found = /^\s*(\d+(?:\.\d+)?)\s*([kKMG]?)(?:bit)?(?:\/s)?\s*$/.exec(text);
  if (!found) return undefined;
  const scale = { "": 1, k: 1e3, K: 1e3, M: 1e6, G: 1e9 }[found[2] ?? ""] ?? 1;
  return Number(found[1]) * scale;
}

/** words are those of a text, with commas or blanks between. */
export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** listed are the names of a list with commas between: a name may have blanks. */
export const listed = (text: string) => text.split(",").map((w) => w.trim()).filter(Boolean);

/** wrong says what is wrong with what stands in a field; undefined when nothing is. */
export function wrong(field: KindField, text: string): string | undefined {
  if (text.trim() === "") return undefined;
  switch (field.type) {
    case "int":
      return /^-?\d+$/.test(text.trim()) ? undefined : "a whole number";
    case "number":
      return Number.isFinite(Number(text)) ? undefined : "a number";
    case "rate":
      return rateOf(text) === undefined ? "such as 20M, 64k or 1500000" : undefined;
    case "packets":
      return text.trim() === "unlimited" || Number(text) > 0 ? undefined : "a number, or unlimited";
    case "span":
      return /^(\d+(\.\d+)?(ns|us|µs|ms|s|m|h))+$/.test(text.trim()) ? undefined : "such as 10s or 20ms";
  }
  return undefined;
}

/** valuesOf is what a form says, as the service takes it: what is empty, or as it would be without being said, is left out. */
export function valuesOf(fields: KindField[], form: Record<string, string>): Record<string, unknown> {
  const out: Record<string, unknown> = {};
  for (const f of fields) {
    const text = (form[f.name] ?? f.usual).trim();
    if (text === f.usual || (text === "" && f.type !== "bool")) continue;
    out[f.name] = valueOf(f, text);
  }
  return out;
}

function valueOf(field: KindField, text: string): unknown {
  switch (field.type) {
    case "bool":
      return text === "true";
    case "int":
    case "number":
      return Number(text);
    case "rate":
      return rateOf(text);
    case "packets":
      return text === "unlimited" ? text : Number(text);
    case "list":
    case "via":
      return field.type === "list" ? words(text) : words(text).join(",");
  }
  return text;
}

/** spoken is the name of a field as a label: "payload bytes", "TTL". */
export function spoken(field: KindField): string {
  const names: Record<string, string> = { via: "By", probes: "Probes", interval: "Every", for: "For", dscp: "DSCP", ttl: "TTL", packets_per_second: "Packets a second", exclude: "Leave out", rate_bps: "Rate, bit/s", repeats: "Times", protocol: "Protocol", codec: "As a call of", both_ways: "And back", reflector: "A reflector, not an agent", yardstick: "Own machines first", search: "Search the highest rate", find_path_mtu: "Path MTU, too", last_ttl: "Largest TTL", first_ttl: "First TTL", line_bps: "Line, bit/s", loss_limit_ratio: "Loss allowed, ratio", port: "TCP port", stamp_key: "STAMP key" };
  const known = names[field.name];
  if (known) return known;
  const text = field.name.replaceAll("_", " ");
  return text.charAt(0).toUpperCase() + text.slice(1);
}
