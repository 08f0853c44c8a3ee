import { Link } from "react-router";
import type { PartShown } from "../../api";
import { StateShape } from "../StateMark";

type MapShown = NonNullable<PartShown["map"]>;

const strokes: Record<string, { stroke: string; width: number; dash?: string }> = {
  steady: { stroke: "var(--ink)", width: 0.8 },
  degraded: { stroke: "var(--ochre)", width: 2, dash: "7 3" },
  lost: { stroke: "var(--plum)", width: 2.2 },
  unmeasured: { stroke: "var(--soft)", width: 1.2, dash: "1.5 3" },
};

const inks: Record<string, string> = { steady: "var(--ink)", degraded: "var(--ochre)", lost: "var(--plum)", unmeasured: "var(--soft)" };

const worst = ["steady", "unmeasured", "degraded", "lost"];

/** MapPart draws sites where they are, with what is between them by its state; a line leads to its worst path. */
export function MapPart({ map }: { map: MapShown }) {
  const sites = map.sites ?? [];
  const lines = [...(map.lines ?? [])].sort((a, b) => worst.indexOf(a.state) - worst.indexOf(b.state));
  if (sites.length === 0) return null;
  const counts = worst.map((s) => [s, sites.filter((x) => x.state === s).length] as const).filter(([, n]) => n > 0).reverse();
  return (
    <svg viewBox={`0 0 ${map.width} ${map.height}`} className="h-72 w-full lg:h-[calc(var(--h)*12.5rem-5.5rem)]" data-map={sites.length} role="group"
      aria-label={`Map of ${sites.length} sites: ${counts.map(([s, n]) => `${n} ${s}`).join(", ")}`}>
      <path d={map.outline} fill="var(--land)" fillRule="evenodd" aria-hidden="true" />
      {lines.map((l) => {
        const s = strokes[l.state] ?? strokes.unmeasured!;
        const [dx, dy] = [l.x2 - l.x1, l.y2 - l.y1];
        const length = Math.max(1e-9, Math.hypot(dx, dy));
        const [mx, my] = [(l.x1 + l.x2) / 2, (l.y1 + l.y2) / 2];
        return (
          <Link key={l.from_site + "\n" + l.to_site} to={"/paths/" + l.path_id} aria-label={l.says} className="outline-none [&:focus-visible>line:first-of-type]:stroke-ochre [&:focus-visible>line:first-of-type]:opacity-60">
            <title>{l.says}</title>
            <line x1={l.x1} y1={l.y1} x2={l.x2} y2={l.y2} stroke="transparent" strokeWidth="9" />
            <line x1={l.x1} y1={l.y1} x2={l.x2} y2={l.y2} stroke={s.stroke} strokeWidth={s.width} strokeDasharray={s.dash} data-line={l.state} />
            {l.state === "lost" && <line x1={mx - (dy / length) * 5} y1={my + (dx / length) * 5} x2={mx + (dy / length) * 5} y2={my - (dx / length) * 5} stroke={s.stroke} strokeWidth={s.width} />}
          </Link>
        );
      })}
      {sites.map((s) => (
        <Link key={s.name} to={"/?site=" + encodeURIComponent(s.name)} aria-label={`${s.name}: ${s.state}, ${s.paths === 1 ? "1 path" : `${s.paths} paths`}`}>
          <title>{`${s.name}: ${s.state}, ${s.paths === 1 ? "1 path" : `${s.paths} paths`}${s.note ? `; ${s.note}` : ""}`}</title>
          <circle cx={s.x} cy={s.y} r="7.5" fill="var(--paper)" opacity="0.7" />
          <svg x={s.x - 7} y={s.y - 7} width="14" height="14" viewBox="0 0 16 16" fill="none" stroke={inks[s.state]} color={inks[s.state]} strokeWidth="1.6">
            <StateShape state={s.state} />
          </svg>
          {s.label_anchor && (
            <text x={s.label_x} y={s.label_y} textAnchor={s.label_anchor as "start"} fontSize="10" fill="var(--ink)" stroke="var(--paper)" strokeWidth="2.5" paintOrder="stroke">
              {s.name}
            </text>
          )}
        </Link>
      ))}
    </svg>
  );
}
