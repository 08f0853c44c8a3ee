import type { Fitness } from "../api";
import { when } from "../format";

type Step = NonNullable<Fitness["steps"]>[number];

const wide = 960;
const high = 44;

/** OverTime draws a measure step by step against its limit: the mean of each step, and up to its worst. What was not measured is left blank. */
export function OverTime({ steps, measure, limit, atLeast, says }: { steps: Step[]; measure: string; limit: number; atLeast: boolean; says: (v: number) => string }) {
  const values = steps.flatMap((s) => [s.mean[measure], s.worst[measure]]).filter((v): v is number => v !== undefined);
  if (values.length === 0 || steps.length === 0) return null;
  const top = Math.max(limit, ...values) * 1.05 || 1;
  const bottom = atLeast ? Math.min(limit, ...values) * 0.95 : 0;
  const y = (v: number) => high - ((v - bottom) / Math.max(top - bottom, 1e-12)) * high;
  const each = wide / steps.length;
  const off = (v: number) => (atLeast ? v < limit : v > limit);
  const many = steps.filter((s) => s.worst[measure] !== undefined && off(s.worst[measure]!)).length;
  return (
    <svg viewBox={`0 0 ${wide} ${high}`} preserveAspectRatio="none" className="h-11 w-full" role="img" aria-label={`From ${when(steps[0]!.from_at)}, in ${steps.length} steps: beyond the limit of ${says(limit)} in ${many} of them`}>
      {steps.map((s, i) => {
        const mean = s.mean[measure];
        const worst = s.worst[measure];
        if (mean === undefined || worst === undefined) return null;
        const [a, b] = [y(mean), y(worst)];
        return (
          <g key={s.from_at}>
            <title>{`${when(s.from_at)}: ${says(mean)} in the mean, ${says(worst)} at worst`}</title>
            <rect x={i * each} y={Math.min(a, b)} width={each} height={Math.max(Math.abs(a - b), 0.01)} fill="var(--ribbon)" />
            <rect x={i * each} y={Math.min(a, high - 2)} width={each} height="2" fill={off(mean) ? "var(--plum)" : "var(--ink)"} />
          </g>
        );
      })}
      <line x1="0" x2={wide} y1={y(limit)} y2={y(limit)} stroke="var(--ochre)" strokeDasharray="6 4" vectorEffect="non-scaling-stroke" />
    </svg>
  );
}
