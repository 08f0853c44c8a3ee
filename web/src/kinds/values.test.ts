import { describe, expect, it } from "vitest";
import type { KindField } from "../api";
import { rateOf, spoken, valuesOf, words, wrong } from "./values";

const field = (name: string, type: KindField["type"], usual = ""): KindField => ({ name, type, usual, help: "", option: name });

describe("what stands in a form", () => {
  it.each([
    ["20M", 20e6],
    ["64k", 64e3],
    ["1.5G", 1.5e9],
    ["1500000", 1.5e6],
    ["20 Mbit/s", 20e6],
    ["fast", undefined],
    ["", undefined],
    ["-5M", undefined],
  ])("reads the rate %s", (text, want) => expect(rateOf(text)).toBe(want));

  it("says only what is not usual, each thing in its form", () => {
    const fields = [field("via", "via", "icmp"), field("probes", "int", "20"), field("interval", "span", "1s"), field("poisson", "bool", "false"), field("rate_bps", "rate"), field("exclude", "list"), field("packets_per_second", "packets", "5000"), field("loss_limit_ratio", "number", "0"), field("dscp", "class")];
    expect(valuesOf(fields, {})).toEqual({});
    expect(valuesOf(fields, { via: "icmp tcp:443", probes: "5", interval: "1s", poisson: "true", rate_bps: "2M", exclude: "192.0.2.1, 192.0.2.7", packets_per_second: "unlimited", loss_limit_ratio: "0.001", dscp: " EF " })).toEqual({
      via: "icmp,tcp:443",
      probes: 5,
      poisson: true,
      rate_bps: 2e6,
      exclude: ["192.0.2.1", "192.0.2.7"],
      packets_per_second: "unlimited",
      loss_limit_ratio: 0.001,
      dscp: "EF",
    });
    expect(valuesOf([field("names", "bool", "true")], { names: "false" })).toEqual({ names: false });
    expect(valuesOf([field("probes", "int", "20")], { probes: "" })).toEqual({});
  });

  it.each([
    ["int", "7", undefined],
    ["int", "7.5", "a whole number"],
    ["span", "1m30s", undefined],
    ["span", "20ms", undefined],
    ["span", "soon", "such as 10s or 20ms"],
    ["rate", "fast", "such as 20M, 64k or 1500000"],
    ["packets", "unlimited", undefined],
    ["packets", "none", "a number, or unlimited"],
    ["number", "0.1", undefined],
    ["number", "x", "a number"],
    ["int", "", undefined],
  ] as const)("of %s says of %s what is wrong", (type, text, want) => expect(wrong(field("x", type), text)).toBe(want));

  it("has labels that can be read", () => {
    expect(spoken(field("payload_bytes", "int"))).toBe("Payload bytes");
    expect(spoken(field("dscp", "class"))).toBe("DSCP");
    expect(words(" a, b\nc ")).toEqual(["a", "b", "c"]);
  });
});
