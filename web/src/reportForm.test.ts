import { describe, expect, it } from "vitest";
import { chosen, emptyReport, periodOf, queryOf } from "./reportForm";

const now = Date.UTC(2026, 10, 2, 12);

describe("the form of a report", () => {
  it("goes back from now, or is of its own time", () => {
    expect(periodOf(emptyReport, now)).toEqual({ from: new Date(now - 86_400_000), to: new Date(now) });
    const own = { ...emptyReport, last: "other …", from: "2026-11-01T08:00", to: "2026-11-01T10:00" };
    expect(periodOf(own, now)!.to.getTime() - periodOf(own, now)!.from.getTime()).toBe(7_200_000);
    expect(periodOf({ ...own, to: own.from }, now)).toBeUndefined();
    expect(periodOf({ ...own, to: "" }, now)).toBeUndefined();
    expect(queryOf({ ...own, to: "" }, now)).toBeUndefined();
  });
  it("asks for what is said, and for nothing else", () => {
    expect([...queryOf(emptyReport, now)!.keys()]).toEqual(["from_at", "to_at"]);
    const q = queryOf({ ...emptyReport, tags: "islands, ships", sites: " Holm ", objective: "voice", title: " week " }, now)!;
    expect(q.get("tags")).toBe("islands,ships");
    expect(q.get("sites")).toBe("Holm");
    expect(q.get("objective")).toBe("voice");
    expect(q.get("title")).toBe("week");
  });
  it("knows whether paths are chosen", () => {
    expect(chosen(emptyReport)).toBe(false);
    expect(chosen({ ...emptyReport, targets: "holm.example" })).toBe(true);
  });
});
