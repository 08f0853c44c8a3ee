import type { components } from "../schema";

/** Plan is what a visit measures; the service makes it. */
export type Plan = { every_ms: number; bytes: number; seats: number; packets: number; pings: number; load_s: number; warm_up_s: number; streams: number; most_bytes: number };

export type Begun = { id: string; ticket: string; plan: Plan };

export type About = { title: string; notes: string; need: string; says: string; seats: number; ends_at: string };

export type Phase = "rest" | "down" | "up";

export type Trip = { phase: Phase; ms: number | null };

/** Told is what this browser measured, raw; the figures are made of it by the service. */
export type Told = {
  words: string;
  sent: number[];
  came: { n: number; at: number }[];
  echoes: Trip[];
  trips: Trip[];
  down: { at: number; bytes: number }[];
  blocked?: string;
  problem?: string;
};

export type Found = components["schemas"]["VisitFound"];

export type Kept = { need: { need: string; says?: string }; seats: number; found: Found };

export const nothing = (): Told => ({ words: "", sent: [], came: [], echoes: [], trips: [], down: [] });
