import { expect, test } from "vitest";
import type { Criterion, Found } from "./types";
import { amount, pairs, summary } from "./words";

const criterion = (change: Partial<Criterion>): Criterion => ({ part: "throughput_search", figure: "highest_rate", frame_bytes: 512, there: true, at_least: true, limit: 4.8e6, measured: 4e6, margin: -0.8e6, unit: "bps", verdict: "fail", ...change });
const found = (...criteria: Criterion[]): Found => ({ verdict: "", criteria, trials: 1, repeated_trials: 0 });

test("figures are written in their units, and what is not known is a dash", () => {
  expect(amount(4_800_000, "bps")).toBe("4.80 Mbit/s");
  expect(amount(null, "ms")).toBe("–");
  expect(amount(1234, "frames")).toBe("1,234 frames");
});

test("limits are counted by how they came out", () => {
  expect(summary(found())).toBe("no limits");
  expect(summary(found(criterion({}), criterion({ verdict: "pass" }), criterion({ verdict: "pass" })))).toBe("2 passed, 1 missed");
});

test("two runs are laid beside each other by what each limit is of", () => {
  const delay = criterion({ part: "latency", figure: "latency", at_least: false, unit: "ms", measured: 9, verdict: "fail" });
  const list = pairs(found(criterion({}), delay, criterion({ frame_bytes: 64 })), found(criterion({ measured: 5e6, verdict: "pass" }), { ...delay, measured: 12 }));
  expect(list.map((p) => [p.name, p.better])).toEqual([
    ["throughput there, 512 bytes", true],
    ["latency there, 512 bytes", false],
  ]);
});
