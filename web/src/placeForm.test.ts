import { describe, expect, it } from "vitest";
import { degrees } from "./placeForm";
import { together, ticks, says } from "./parts/board/TrendPart";

describe("degrees as they are typed", () => {
  for (const [text, value] of [["60.15", 60.15], [" 60,15 ", 60.15], ["60.15N", 60.15], ["60.15 ° s", -60.15], ["-1", -1], ["90", 90]] as const) it(`reads ${text}`, () => expect(degrees(text, 90, "N", "S")).toEqual({ value }));
  for (const text of ["91", "-90.1", "north", "60.15E", "-60S", "60 15"]) it(`refuses ${text}`, () => expect(degrees(text, 90, "N", "S").wrong).toBeTruthy());
  it("leaves open what is empty", () => expect(degrees(" ", 90, "N", "S")).toEqual({}));
});

describe("a trend", () => {
  const step = (at: string) => ({ at, paths: 1, value: 1, low: 1, high: 1 });
  it("has gaps where nothing was measured", () => {
    const runs = together([step("2026-11-01T10:00:00Z"), step("2026-11-01T10:10:00Z"), step("2026-11-01T10:30:00Z")], 600);
    expect(runs.map((r) => r.length)).toEqual([2, 1]);
    expect(together([], 600)).toEqual([]);
  });
  it("has round figures on its axis", () => {
    expect(ticks(0, 10)).toEqual([0, 5, 10]);
    expect(ticks(3.9, 4.4)).toEqual([4, 4.2, 4.4]);
    expect(ticks(0, 0.00035)).toEqual([0, 0.0001, 0.0002, 0.0003]);
  });
  it("says figures with their unit", () => {
    expect([says("ms", 12.34), says("ratio", 0.0123), says("mos", 4.409)]).toEqual(["12.3 ms", "1.2 %", "4.41"]);
  });
});
