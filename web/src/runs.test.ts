import { describe, expect, test } from "vitest";
import type { Run } from "./api";
import { heard, type RunEvent } from "./runs";

const run = (sent: number, rtts: (number | null)[]): Run => ({ id: "r", outcome: "running", heard: sent, of: 50, rtts_ms: rtts, reading: sent ? { sent } : undefined }) as unknown as Run;
const event = (sent: number, from: number, rtts: (number | null)[]): RunEvent => ({ at: "", run_id: "r", outcome: "running", heard: sent, of: 50, rtts_from: from, rtts_ms: rtts, reading: { sent } }) as unknown as RunEvent;

describe("what an event brings of a run", () => {
  test("comes behind what is there", () => {
    const next = heard(run(2, [1, null]), event(4, 2, [3, 4]));
    expect(next?.rtts_ms).toEqual([1, null, 3, 4]);
    expect(next?.reading?.sent).toBe(4);
    expect(next?.heard).toBe(4);
  });
  test("does not come twice", () => {
    expect(heard(run(3, [1, 2, 3]), event(4, 2, [3, 4]))?.rtts_ms).toEqual([1, 2, 3, 4]);
    expect(heard(run(4, [1, 2, 3, 4]), event(3, 2, [3]))?.rtts_ms).toEqual([1, 2, 3, 4]);
  });
  test("with a gap the run is read anew", () => {
    expect(heard(run(1, [1]), event(4, 2, [3, 4]))).toBeUndefined();
  });
  test("the newest are kept", () => {
    const many = Array.from({ length: 400 }, (_, i) => i);
    const next = heard(run(1000, many), event(1002, 1000, [7, 8]));
    expect(next?.rtts_ms).toHaveLength(400);
    expect(next?.rtts_ms?.slice(-3)).toEqual([399, 7, 8]);
  });
  test("the end is read once", () => {
    expect(heard(run(1, [1]), { ...event(1, 1, []), outcome: "done" })).toBeUndefined();
  });
  test("steps and seconds replace what was", () => {
    const next = heard(run(0, []), { at: "", run_id: "r", outcome: "running", says: "there", live: [{ start_s: 0 }], result: { steps: [1] } } as unknown as RunEvent);
    expect(next?.says).toBe("there");
    expect(next?.live).toHaveLength(1);
    expect(next?.result).toEqual({ steps: [1] });
  });
});
