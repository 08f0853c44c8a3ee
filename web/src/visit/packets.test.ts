import { describe, expect, it } from "vitest";
import { due, message, read } from "./packets";
import type { Plan } from "./types";

const plan: Plan = { every_ms: 20, bytes: 172, seats: 3, packets: 30, pings: 1, load_s: 8, warm_up_s: 2, streams: 4, most_bytes: 1 };

describe("messages", () => {
  it("say what they are, with a number, and have the size that was planned", () => {
    const b = message(1, 4_000_000_000, 172);
    expect(b.byteLength).toBe(172);
    expect(read(b)).toEqual({ kind: 1, number: 4_000_000_000 });
    expect(message(2, 0).byteLength).toBe(5);
  });
  it("are none when they are too short", () => {
    expect(read(new ArrayBuffer(4))).toBeUndefined();
  });
});

describe("packets that have to have left", () => {
  it("are those of all seats at each tick, and no more than all", () => {
    expect([0, 19.9, 20, 61, 180, 1e6].map((t) => due(plan, t))).toEqual([3, 3, 6, 12, 30, 30]);
  });
});
