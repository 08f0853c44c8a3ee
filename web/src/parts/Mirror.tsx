export type Stretch = { start: number; length: number; value: number | null; lost?: number; faint?: boolean };

/** Mirror draws both directions about one axis: what goes there above it, what comes back below. Losses hang from the outer edges. */
export function Mirror({ there, back, unit, format, names, what }: { there: Stretch[]; back: Stretch[]; unit: string; format: (v: number) => string; names: [string, string]; what: string }) {
  const width = 720;
  const half = 84;
  const all = [...there, ...back];
  const end = Math.max(1, ...all.map((s) => s.start + s.length));
  const most = Math.max(...all.map((s) => s.value ?? 0), 1e-9);
  const x = (t: number) => (t / end) * width;
  const bar = (s: Stretch, side: 1 | -1, i: number) => {
    const high = ((s.value ?? 0) / most) * (half - 14);
    const w = Math.max(1, x(s.length) - 1.5);
    return (
      <g key={side + "-" + i}>
        {s.value != null && <rect x={x(s.start)} y={side > 0 ? half - high : half} width={w} height={Math.max(0.75, high)} fill="var(--ink)" opacity={s.faint ? 0.3 : 0.85} />}
        {(s.lost ?? 0) > 0 && (
          <line x1={x(s.start) + w / 2} x2={x(s.start) + w / 2} y1={side > 0 ? 0 : 2 * half} y2={side > 0 ? Math.min(12, 3 + (s.lost ?? 0)) : 2 * half - Math.min(12, 3 + (s.lost ?? 0))} stroke="var(--plum)" strokeWidth="2" vectorEffect="non-scaling-stroke" />
        )}
        <title>{`${side > 0 ? names[0] : names[1]}, ${s.start.toFixed(0)} s: ${s.value == null ? "nothing" : format(s.value)}${s.lost ? `, ${s.lost} lost` : ""}`}</title>
      </g>
    );
  };
  return (
    <figure className="py-2">
      <div className="flex justify-between text-sm text-soft">
        <span>↑ {names[0]}</span>
        <span className="figures">
          {what}, up to {format(most)} {unit}
        </span>
      </div>
      <svg viewBox={`0 0 ${width} ${2 * half}`} className="h-44 w-full" preserveAspectRatio="none" role="img" aria-label={`${what} over ${end.toFixed(0)} seconds: ${names[0]} above the axis, ${names[1]} below it; the table beside it has the figures`}>
        {there.map((s, i) => bar(s, 1, i))}
        {back.map((s, i) => bar(s, -1, i))}
        <line x1="0" x2={width} y1={half} y2={half} stroke="var(--ink)" strokeWidth="1" vectorEffect="non-scaling-stroke" />
      </svg>
      <figcaption className="figures flex justify-between text-sm text-soft">
        <span>↓ {names[1]}</span>
        <span>
          0 to {end.toFixed(0)} s{all.some((s) => s.faint) && "; pale: left out, as warm-up"}
          {all.some((s) => s.lost) && "; a mark at the edge: packets lost"}
        </span>
      </figcaption>
    </figure>
  );
}
