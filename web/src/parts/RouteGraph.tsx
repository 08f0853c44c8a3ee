import type { Trace } from "../api";

type Place = { id: string; label: string; layer: number; row: number; by: Set<string>; silent: boolean };

const layerWidth = 190;
const rowHeight = 46;

/**
 * RouteGraph merges traces into one graph: the agents at the left, the target at
 * the right, a hop that several pass once. The more traces pass a segment, the
 * heavier it is.
 */
export function RouteGraph({ traces }: { traces: Pick<Trace, "from" | "to" | "via" | "report">[] }) {
  const places = new Map<string, Place>();
  const segments = new Map<string, { from: string; to: string; by: Set<string> }>();
  for (const t of traces) {
    const r = t.report;
    if (!r) continue;
    const names = new Map((r.hops ?? []).flatMap((h) => (h.nodes ?? []).map((n) => [n.address, n.name] as const)));
    const put = (id: string, label: string, layer: number, silent: boolean) => {
      const p = places.get(id) ?? { id, label, layer: 0, row: 0, by: new Set<string>(), silent };
      p.layer = Math.max(p.layer, layer);
      p.by.add(t.from);
      places.set(id, p);
      return id;
    };
    const at = (ttl: number, a: string) => (ttl === 0 ? put("from " + t.from, t.from, 0, false) : a ? put(a, names.get(a) || a, ttl, false) : put(`silent ${t.from} ${ttl}`, "no answer", ttl, true));
    for (const e of r.edges ?? []) {
      const [from, to] = [at(e.ttl - 1, e.from), at(e.ttl, e.to)];
      const key = from + " " + to;
      const s = segments.get(key) ?? { from, to, by: new Set<string>() };
      s.by.add(t.from);
      segments.set(key, s);
    }
  }
  if (places.size === 0) return null;
  // A hop stands right of all that lead to it; a route is no longer than its hops.
  for (let round = 0; round < places.size; round++) {
    let moved = false;
    for (const s of segments.values()) {
      const [a, b] = [places.get(s.from)!, places.get(s.to)!];
      if (b.layer <= a.layer && a.layer < 40) {
        b.layer = a.layer + 1;
        moved = true;
      }
    }
    if (!moved) break;
  }
  // An agent stands beside the hop that it reaches first.
  for (const p of places.values()) {
    const next = [...segments.values()].filter((s) => s.from === p.id).map((s) => places.get(s.to)!.layer);
    if (p.id.startsWith("from ") && next.length) p.layer = Math.min(...next) - 1;
  }
  const layers: Place[][] = [];
  for (const p of places.values()) (layers[p.layer] ??= []).push(p);
  for (const layer of layers) layer?.forEach((p, i) => (p.row = i - (layer.length - 1) / 2));
  const tallest = Math.max(...layers.map((l) => l?.length ?? 0));
  const x = (p: Place) => 16 + p.layer * layerWidth;
  const y = (p: Place) => (tallest / 2 + p.row) * rowHeight;
  const width = 16 + layers.length * layerWidth;
  const agents = new Set(traces.map((t) => t.from));
  return (
    <figure>
      <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="Graph of the routes">
        <svg viewBox={`0 0 ${width} ${tallest * rowHeight + 20}`} style={{ minWidth: Math.min(width, 700), maxWidth: width }} role="img" data-nodes={places.size}
          aria-label={`Routes from ${[...agents].join(", ")}: ${places.size} hops, ${[...segments.values()].filter((s) => s.by.size > 1).length} segments shared`}>
          {[...segments.values()].map((s) => {
            const [a, b] = [places.get(s.from)!, places.get(s.to)!];
            const middle = (x(a) + x(b)) / 2;
            return (
              <path key={s.from + s.to} d={`M${x(a)} ${y(a)}C${middle} ${y(a)} ${middle} ${y(b)} ${x(b)} ${y(b)}`} fill="none" stroke={s.by.size > 1 ? "var(--ochre)" : "var(--soft)"} strokeWidth={1 + 1.5 * s.by.size}>
                <title>{`${a.label} → ${b.label}: from ${[...s.by].join(", ")}`}</title>
              </path>
            );
          })}
          {[...places.values()].map((p) => (
            <g key={p.id}>
              <circle cx={x(p)} cy={y(p)} r="5" fill={p.silent ? "var(--paper)" : "var(--ink)"} stroke="var(--ink)" strokeDasharray={p.silent ? "2 2" : undefined} />
              <text x={x(p) - 5} y={y(p) + 19} fontSize="11.5" fill="var(--ink)">
                {p.label}
              </text>
              <title>{`${p.label}: from ${[...p.by].join(", ")}`}</title>
            </g>
          ))}
        </svg>
      </div>
      <figcaption className="flex flex-wrap gap-x-6 pt-1 text-sm text-soft">
        <span>
          <i className="mr-2 inline-block h-1 w-5 bg-ochre align-middle" />
          shared by several agents
        </span>
        <span>
          <i className="mr-2 inline-block h-0.5 w-5 bg-soft align-middle" />
          of one alone
        </span>
      </figcaption>
    </figure>
  );
}
