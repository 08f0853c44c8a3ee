import { describe, expect, it } from "vitest";
import { become, drafts, fresh, kinds, lacks, listOf, listText, moved, nextBoard, sized, takes } from "./boardForm";

describe("a board that is being arranged", () => {
  const list = drafts([fresh("map"), fresh("states"), fresh("text")]);
  const order = (l: typeof list) => l.map((d) => d.part.kind).join(" ");

  it("moves parts, and no further than there are places", () => {
    expect(order(moved(list, list[0]!.key, 1))).toBe("states map text");
    expect(order(moved(list, list[2]!.key, 0))).toBe("text map states");
    expect(order(moved(list, list[2]!.key, 9))).toBe("map states text");
    expect(order(moved(list, list[0]!.key, -4))).toBe("map states text");
    expect(moved(list, "none", 1)).toBe(list);
    expect(new Set(list.map((d) => d.key)).size).toBe(3);
  });

  it("makes parts wider and higher within the board", () => {
    const p = fresh("states");
    expect(sized(p, { width: 1 })).toMatchObject({ width: 5, height: 1 });
    expect(sized(p, { width: -9 })).toMatchObject({ width: 2 });
    expect(sized(p, { width: 90, height: 90 })).toMatchObject({ width: 12, height: 6 });
    expect(sized(p, { height: -1 })).toMatchObject({ height: 1 });
  });

  it("keeps what another kind has a use for, and nothing else", () => {
    const matrix = { ...fresh("matrix"), title: "t", measure: "jitter" as const, tags: ["islands"] };
    expect(become(matrix, "trend")).toEqual({ kind: "trend", width: 6, height: 2, measure: "rtt", last: "24h", title: "t", tags: ["islands"] });
    expect(become({ ...matrix, measure: "loss" }, "trend")).toMatchObject({ measure: "loss" });
    expect(become(matrix, "text")).toEqual({ kind: "text", width: 4, height: 1, title: "t" });
    for (const [kind] of kinds) expect(takes[kind].length).toBeGreaterThan(0);
  });

  it("reads lists whose names have blanks", () => {
    expect(listOf(" Gannet Bay, Holm ,")).toEqual(["Gannet Bay", "Holm"]);
    expect(listOf(" , ")).toBeUndefined();
    expect(listText(["Gannet Bay", "Holm"])).toBe("Gannet Bay, Holm");
    expect(listText(null)).toBe("");
  });

  it("says what a part lacks", () => {
    expect(lacks(fresh("plot"))).toBe("Choose a path.");
    expect(lacks({ ...fresh("plot"), from: "a", to: "b" })).toBeUndefined();
    expect(lacks({ ...fresh("text"), text: " " })).toBe("Write a text.");
    expect(lacks(fresh("map"))).toBeUndefined();
  });

  it("turns through boards, forth and back, and begins anew", () => {
    expect(nextBoard(["a", "b", "c"], "a", 1)).toBe("b");
    expect(nextBoard(["a", "b", "c"], "c", 1)).toBe("a");
    expect(nextBoard(["a", "b", "c"], "a", -1)).toBe("c");
    expect(nextBoard(["a", "b"], "gone", 1)).toBe("a");
    expect(nextBoard([], "a", 1)).toBe("a");
  });
});
