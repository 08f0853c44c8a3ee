import { describe, expect, it } from "vitest";
import { bits, ms, percent, span } from "./format";

describe("figures for readers", () => {
  it.each([
    [0, "0"],
    [0.0123, "0.0123"],
    [6.549, "6.55"],
    [24.31, "24.3"],
    [1234.5, "1235"],
    [null, "–"],
    [undefined, "–"],
  ])("%s ms is %s", (v, want) => expect(ms(v)).toBe(want));
  it.each([
    [0, "0"],
    [0.00123, "0.12"],
    [0.05, "5.0"],
    [0.123, "12.3"],
    [1, "100"],
    [null, "–"],
  ])("the ratio %s is %s %%", (v, want) => expect(percent(v)).toBe(want));
  it.each([
    [0, "0 s"],
    [1000, "1 s"],
    [61_000, "1 min 1 s"],
    [3_600_000, "1 h"],
    [90_000_000, "1 d 1 h"],
    [40 * 86_400_000, "40 d"],
    [-5, "0 s"],
  ])("%s ms last %s", (v, want) => expect(span(v)).toBe(want));
  it.each([
    [999, "999 bit/s"],
    [1500, "1.50 kbit/s"],
    [20e6, "20.0 Mbit/s"],
    [531e6, "531 Mbit/s"],
    [1e10, "10.0 Gbit/s"],
    [null, "–"],
  ])("%s bit/s are %s", (v, want) => expect(bits(v)).toBe(want));
});
