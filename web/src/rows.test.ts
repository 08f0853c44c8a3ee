import { expect, test } from "vitest";
import type { PathRow } from "./api";
import { part, partsOf, placed } from "./rows";

test("only what is seen is asked for", () => {
  expect(partsOf(0, 12)).toEqual([0]);
  expect(partsOf(0, 0)).toEqual([0]);
  expect(partsOf(part - 1, part)).toEqual([0, 1]);
  expect(partsOf(9_990, 10_008)).toEqual([199, 200]);
  expect(partsOf(-8, 3)).toEqual([0]);
});

test("what moved while it was read is shown once", () => {
  const row = (id: string) => ({ id }) as PathRow;
  const rows = placed([2, 3], [[row("a"), row("b")], [row("b"), row("c")]]);
  expect([...rows].map(([n, r]) => [n, r.id])).toEqual([
    [2 * part, "a"],
    [2 * part + 1, "b"],
    [3 * part + 1, "c"],
  ]);
  expect(placed([0, 1], [undefined, [row("z")]]).get(part)?.id).toBe("z");
});
