import { describe, expect, it } from "vitest";
import { emptyRule, ruleOf, says, type RuleForm } from "./ruleForm";

const form = (some: Partial<RuleForm>): RuleForm => ({ ...emptyRule, name: " night ", channel: "desk", ...some });

describe("the form of a rule", () => {
  it("says no more than what stands in it", () => {
    expect(ruleOf(form({}))).toEqual({ name: "night", channel: "desk" });
    expect(ruleOf(form({ tells: "incidents only", state: "lost", tags: "islands, ships", hours: "18:00-08:00", zone: "Europe/Dublin", remind: "4h", holidays: "quiet" }))).toEqual({
      name: "night", channel: "desk", tags: ["islands", "ships"], zone: "Europe/Dublin", incidents_only: true, states: ["lost"], hours: "18:00-08:00", holidays: "quiet", remind: "4h",
    });
  });
  it("of a report leaves out what is of faults", () => {
    expect(ruleOf(form({ tells: "a weekly report", at: "08:15", objective: "voice", remind: "4h", state: "lost", hours: "08:00-09:00" }))).toEqual({
      name: "night", channel: "desk", report: { every: "weekly", at: "08:15", objective: "voice" },
    });
  });
  it("is told in a line", () => {
    expect(says({ id: "1", name: "a", channel: "desk" })).toBe("what gets worse and is over");
    expect(says({ id: "1", ...ruleOf(form({ tells: "a daily report", objective: "voice", sites: "Holm" })) })).toBe("a report daily, held against voice; sites Holm");
    expect(says({ id: "1", ...ruleOf(form({ state: "lost", hours: "18:00-08:00", remind: "4h", holidays: "only" })) })).toBe("lost; in the hours 18:00-08:00; on days off only; again after 4h");
  });
});
