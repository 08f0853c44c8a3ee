import type { BoardPart } from "./api";
import { listed } from "./kinds/values";

/** Draft is a part of a board that is being arranged; its key stays while it moves. */
export type Draft = { key: string; part: BoardPart };

export type PartKind = BoardPart["kind"];

/** kinds are what a part can show, and what that is called. */
export const kinds: [PartKind, string][] = [
  ["states", "Paths by state"],
  ["worst", "Worst paths"],
  ["plot", "One path over time"],
  ["matrix", "Agents to targets"],
  ["trend", "A measure over many paths"],
  ["voice", "Voice quality"],
  ["map", "Map of sites"],
  ["incidents", "Incidents"],
  ["text", "A text"],
];

/** sizes are how wide and high a part is at first. */
const sizes: Record<PartKind, [number, number]> = { states: [4, 1], worst: [6, 2], plot: [6, 2], matrix: [12, 2], trend: [6, 2], voice: [6, 2], map: [8, 3], incidents: [6, 1], text: [4, 1] };

/** takes says which fields a kind has a use for. */
export const takes: Record<PartKind, ("of" | "measure" | "last" | "most" | "path" | "text")[]> = {
  states: ["of"], worst: ["of", "most"], plot: ["path", "last"], matrix: ["of", "measure"], trend: ["of", "measure", "last"], voice: ["of", "most"], map: ["of"], incidents: ["of"], text: ["text"],
};

/** measures are what a kind can show. */
export const measures: Partial<Record<PartKind, ("rtt" | "jitter" | "loss" | "mos")[]>> = { matrix: ["rtt", "jitter", "loss", "mos"], trend: ["rtt", "loss", "mos"] };

/** lasts are the usual lengths of time. */
export const lasts: Record<string, string> = { "1 h": "1h", "6 h": "6h", "24 h": "24h", "3 d": "72h", "7 d": "168h", "30 d": "720h", "1 year": "8760h" };

const columns = 12;
const rows = 6;

/** fresh is a part of a kind, as it is at first. */
export function fresh(kind: PartKind): BoardPart {
  const [width, height] = sizes[kind];
  return { kind, width, height, ...(measures[kind] && { measure: "rtt" as const }), ...(takes[kind].includes("last") && { last: "24h" }) };
}

/** drafts gives each part a key. */
export const drafts = (parts: BoardPart[]): Draft[] => parts.map((part) => ({ key: crypto.randomUUID(), part }));

/** moved puts a draft where another is. */
export function moved(list: Draft[], key: string, to: number): Draft[] {
  const from = list.findIndex((d) => d.key === key);
  const at = Math.min(list.length - 1, Math.max(0, to));
  if (from < 0 || from === at) return list;
  const out = list.slice();
  out.splice(at, 0, ...out.splice(from, 1));
  return out;
}

/** sized makes a part wider or higher by so much, as far as that goes. */
export function sized(part: BoardPart, by: { width?: number; height?: number }): BoardPart {
  const within = (v: number, least: number, most: number) => Math.min(most, Math.max(least, v));
  return { ...part, width: within(part.width + (by.width ?? 0), 2, columns), height: within(part.height + (by.height ?? 0), 1, rows) };
}

/** become makes a part one of another kind: what that has a use for is kept. */
export function become(part: BoardPart, kind: PartKind): BoardPart {
  const next = fresh(kind);
  const has = (field: (typeof takes)[PartKind][number]) => takes[kind].includes(field) && takes[part.kind].includes(field);
  if (part.title) next.title = part.title;
  if (has("of")) for (const f of ["sites", "agents", "targets", "tags", "labels"] as const) if (part[f]?.length) next[f] = part[f];
  if (has("measure") && part.measure && measures[kind]!.includes(part.measure)) next.measure = part.measure;
  if (has("last") && part.last) next.last = part.last;
  if (has("most") && part.most) next.most = part.most;
  return next;
}

/** lists are the choices of paths of a part, as texts. */
export const listText = (list: string[] | null | undefined) => (list ?? []).join(", ");
export const listOf = (text: string): string[] | undefined => {
  const list = listed(text);
  return list.length ? list : undefined;
};

/** lacks says what is missing of a part before it can be shown; undefined when nothing is. */
export function lacks(part: BoardPart): string | undefined {
  if (part.kind === "plot" && !(part.from && part.to)) return "Choose a path.";
  if (part.kind === "text" && !part.text?.trim()) return "Write a text.";
  return undefined;
}

/** nextBoard is which of several comes next on a wall; back with -1. */
export function nextBoard(ids: string[], now: string, by: number): string {
  if (ids.length === 0) return now;
  const at = ids.indexOf(now);
  return ids[(((at < 0 ? 0 : at + by) % ids.length) + ids.length) % ids.length]!;
}
