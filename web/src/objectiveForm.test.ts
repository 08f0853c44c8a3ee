import { describe, expect, it } from "vitest";
import { limitsOf } from "./objectiveForm";

describe("the form of an objective", () => {
  it("reads limits by their units, and says which is none", () => {
    expect(limitsOf({ loss_ratio: "0.5", rtt_ms: " 80 ", availability_ratio: "99,9", there_bps: "20M", mos: "" })).toEqual({ limits: { loss_ratio: 0.005, rtt_ms: 80, availability_ratio: 0.999, there_bps: 20_000_000 } });
    expect(limitsOf({ rtt_ms: "slow" })).toEqual({ limits: {}, wrong: "RTT, ms" });
    expect(limitsOf({ back_bps: "much" }).wrong).toBe("Rate back");
    expect(limitsOf({})).toEqual({ limits: {} });
  });
});
