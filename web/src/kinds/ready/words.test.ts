import { expect, test } from "vitest";
import { amount, askedIn, bound } from "./words";

const agents = ["northquay", "ticketing", "drydock"];

test("one line says what, from where, to where, for how many", () => {
  const all = { need: "calls", seats: "40", from: "northquay", to: "ticketing" };
  expect(askedIn("calls for 40 from northquay to ticketing", agents)).toEqual(all);
  expect(askedIn("40 calls, northquay ticketing", agents)).toEqual(all);
  expect(askedIn("from Northquay to TICKETING telephony 40 seats", agents)).toEqual(all);
  expect(askedIn("meetings to 192.0.2.7:7474", agents)).toEqual({ need: "meetings", seats: "", from: "", to: "192.0.2.7:7474" });
  expect(askedIn("", agents)).toEqual({ need: "", seats: "", from: "", to: "" });
  expect(askedIn("desk drydock", agents)).toEqual({ need: "remote-desk", seats: "", from: "drydock", to: "" });
});

test("figures have their units, and none is made of nothing", () => {
  expect(amount(undefined, "ms")).toBe("–");
  expect(amount(0, "ratio")).toBe("0 %");
  expect(amount(1400, "bytes")).toBe("1400 bytes");
  expect(bound({ part: "streams", what: "", verdict: "pass", limit: 3.8, unit: "mos", at_least: true })).toBe("≥ 3.80");
  expect(bound({ part: "ports", what: "", verdict: "pass", limit: 0 })).toBe("–");
});
