import type { BoardPart } from "../../api";

/** place is where parts stand: in twelve columns, on narrow screens below each other. */
export const place = {
  grid: "grid grid-cols-1 gap-4 lg:grid-cols-12 lg:auto-rows-[11.5rem]",
  /** arranged has room for the buttons of its parts. */
  arranged: "grid grid-cols-1 gap-4 lg:grid-cols-12 lg:auto-rows-[14.5rem]",
  part: "@container min-w-0 lg:[grid-column:span_var(--w)] lg:[grid-row:span_var(--h)]",
  /** of is the size of a part; one that is being changed is as wide as its form needs. */
  of: (p: Pick<BoardPart, "width" | "height">, open = false) => ({ "--w": open ? Math.max(p.width, 6) : p.width, "--h": p.height }) as Record<string, number>,
};
