import type { SweepReport } from "../api";
import { count, places } from "../addresses";

const cells = 64;
const mostCells = 4096;
const size = 12;

/** SweepMap draws the addresses of a sweep as small cells, one an address, or a few where there are many. */
export function SweepMap({ report }: { report: SweepReport }) {
  const space = places(report.prefixes ?? [], report.excluded ?? []);
  const total = count(space);
  if (total === 0) return null;
  let each = 1;
  while (total / each > mostCells) each *= 2;
  const n = Math.ceil(total / each);
  const answered = new Array<number>(n).fill(0);
  const mark = new Array<string>(n).fill("");
  const put = (address: string, use: (i: number) => void) => {
    const at = space.find(address);
    if (at >= 0) use(Math.floor(at / each));
  };
  for (const h of report.hosts ?? []) put(h.address, (i) => answered[i]!++);
  for (const s of report.slower ?? []) put(s.address, (i) => (mark[i] = "slower"));
  for (const a of report.new ?? []) put(a, (i) => (mark[i] = "new"));
  for (const a of report.gone ?? []) put(a, (i) => (mark[i] = "gone"));
  const rows = Math.ceil(n / cells);
  const left = 130;
  return (
    <figure>
      <div className="overflow-x-auto" tabIndex={0} role="group" aria-label="Map of the addresses">
        <svg viewBox={`0 0 ${left + cells * size} ${rows * size + 2}`} style={{ minWidth: 560, maxWidth: left + cells * size }} role="img"
          aria-label={`${report.answered} of ${total} addresses answered; ${report.new?.length ?? 0} new, ${report.gone?.length ?? 0} gone, ${report.slower?.length ?? 0} slower`}>
          {Array.from({ length: rows }, (_, r) => (
            <text key={r} x="0" y={r * size + 10} className="figures" fontSize="10" fill="var(--soft)">
              {rows <= 64 || r % 4 === 0 ? space.at(r * cells * each) : ""}
            </text>
          ))}
          {answered.map((got, i) => (
            <Cell key={i} x={left + (i % cells) * size} y={Math.floor(i / cells) * size} share={got / Math.min(each, total - i * each)} mark={mark[i]!}
              title={`${space.at(i * each)}${each > 1 ? ` and ${each - 1} more` : ""}: ${mark[i] || (each > 1 ? `${got} answer` : got ? "answers" : "silent")}`} />
          ))}
        </svg>
      </div>
      <figcaption className="flex flex-wrap gap-x-6 pt-2 text-sm text-soft">
        {[
          ["", 1, each > 1 ? "all answer" : "answers"],
          ["", 0, each > 1 ? "none answers" : "silent"],
          ["new", 1, "new"],
          ["gone", 0, "gone"],
          ["slower", 1, "slower"],
        ].map(([m, share, says]) => (
          <span key={says as string}>
            <svg viewBox="0 0 12 12" className="mr-1.5 inline size-3" aria-hidden="true">
              <Cell x={0} y={0} share={share as number} mark={m as string} title="" />
            </svg>
            {says}
          </span>
        ))}
        {each > 1 && <span>a cell is {each} addresses</span>}
      </figcaption>
    </figure>
  );
}

function Cell({ x, y, share, mark, title }: { x: number; y: number; share: number; mark: string; title: string }) {
  const cx = x + size / 2;
  const cy = y + size / 2;
  return (
    <g>
      {title && <title>{title}</title>}
      <rect x={x} y={y} width={size} height={size} fill="transparent" />
      {mark === "new" ? (
        <path d={`M${cx} ${cy - 5}L${cx + 5} ${cy}L${cx} ${cy + 5}L${cx - 5} ${cy}Z`} fill="var(--ochre)" />
      ) : mark === "gone" ? (
        <circle cx={cx} cy={cy} r="3.75" fill="none" stroke="var(--plum)" strokeWidth="1.75" />
      ) : mark === "slower" ? (
        <g>
          <rect x={cx - 4} y={cy - 4} width="8" height="8" fill="none" stroke="var(--ochre)" strokeWidth="1.5" />
          <rect x={cx - 4} y={cy} width="8" height="4" fill="var(--ochre)" />
        </g>
      ) : share === 0 ? (
        <circle cx={cx} cy={cy} r="0.9" fill="var(--soft)" />
      ) : (
        <rect x={cx - 4 * Math.sqrt(share)} y={cy - 4 * Math.sqrt(share)} width={8 * Math.sqrt(share)} height={8 * Math.sqrt(share)} fill="var(--ink)" />
      )}
    </g>
  );
}
