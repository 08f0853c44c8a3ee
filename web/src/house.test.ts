import { describe, expect, it } from "vitest";

/** texts of all files, by their path from here. */
const texts = Object.fromEntries(
  Object.entries(import.meta.glob<string>("./**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true }))
    .map(([name, text]) => [name.slice(2), text] as const)
    .filter(([name]) => !/\.test\.ts$|\.d\.ts$/.test(name)),
);
const files = Object.keys(texts);

/** at is where a path leads to from a file. */
const at = (file: string, path: string) => {
  const parts = file.split("/").slice(0, -1);
  for (const p of path.split("/")) {
    if (p === "..") parts.pop();
    else if (p !== ".") parts.push(p);
  }
  return parts.join("/");
};

/** asks are the files of ours that a file imports. */
const asks = (file: string) =>
  [...texts[file]!.matchAll(/(?:from\s+|import\()["'](\.[^"']*)["']/g)].flatMap(([, path]) => {
    const name = at(file, path!);
    return [name + ".ts", name + ".tsx", name + "/index.ts"].filter((f) => files.includes(f));
  });

/** circle is a way from a file back to itself; empty when there is none. */
function circle(of: (file: string) => string[], all: string[]): string[] {
  const done = new Set<string>();
  const way: string[] = [];
  const walk = (f: string): string[] => {
    if (way.includes(f)) return [...way.slice(way.indexOf(f)), f];
    if (done.has(f)) return [];
    way.push(f);
    for (const next of of(f)) {
      const found = walk(next);
      if (found.length) return found;
    }
    way.pop();
    done.add(f);
    return [];
  };
  return all.map(walk).find((c) => c.length) ?? [];
}

describe("the house of the console", () => {
  it("has files", () => {
    expect(files.length).toBeGreaterThan(40);
    expect(files.flatMap(asks).length).toBeGreaterThan(100);
  });

  it("has no circle between files", () => {
    expect(circle(asks, files)).toEqual([]);
    expect(circle((f) => ({ a: ["b"], b: ["c"], c: ["b"] } as Record<string, string[]>)[f] ?? [], ["a"]), "a circle is found").toEqual(["b", "c", "b"]);
  });

  it("keys the rows of what comes and goes by what they are, not by their place", () => {
    // Where the place is what a thing is (the hop of a route, a cell of a map, a column), it may be its key.
    const byPlace = files.filter((f) => /key=\{(i|n|k|index)\}/.test(texts[f]!)).sort();
    expect(byPlace).toEqual(["pages/OnePath.tsx", "parts/BeforeAndDuring.tsx", "parts/DayPlot.tsx", "parts/RouteField.tsx", "parts/SeriesTable.tsx", "parts/ShapePlot.tsx", "parts/SweepMap.tsx"]);
  });
});
