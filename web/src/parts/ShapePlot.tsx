import { ms } from "../format";

/** ShapePlot draws round trips one by one, the oldest at the left; losses hang from the top edge. */
export function ShapePlot({ rtts, of }: { rtts: (number | null)[]; of?: number }) {
  const width = 600;
  const height = 96;
  const answered = rtts.filter((v) => v != null);
  const low = Math.min(...answered);
  const high = Math.max(...answered);
  const slots = Math.max(rtts.length, Math.min(of ?? 0, 400), 20);
  const step = width / slots;
  const y = (v: number) => (high > low ? height - 8 - ((v - low) / (high - low)) * (height - 30) : height / 2);
  let line = "";
  let open = false;
  rtts.forEach((v, i) => {
    if (v == null) {
      open = false;
      return;
    }
    line += `${open ? "L" : "M"}${((i + 0.5) * step).toFixed(1)} ${y(v).toFixed(1)}`;
    open = true;
  });
  return (
    <figure>
      <svg viewBox={`0 0 ${width} ${height}`} className="h-24 w-full border-y border-line" preserveAspectRatio="none" role="img"
        aria-label={answered.length ? `${rtts.length} probes, RTT from ${ms(low)} to ${ms(high)} ms, ${rtts.length - answered.length} not answered` : `${rtts.length} probes, none answered`}>
        <path d={line} fill="none" stroke="var(--ink)" strokeWidth="1.5" vectorEffect="non-scaling-stroke" />
        {rtts.map((v, i) =>
          v == null ? (
            <line key={i} x1={(i + 0.5) * step} x2={(i + 0.5) * step} y1="0" y2="16" stroke="var(--plum)" strokeWidth="2" vectorEffect="non-scaling-stroke" />
          ) : (
            rtts.length <= 60 && <circle key={i} cx={(i + 0.5) * step} cy={y(v)} r="1.5" fill="var(--ink)" />
          ),
        )}
      </svg>
      <figcaption className="figures flex justify-between pt-1 text-sm text-soft">
        <span>{answered.length > 0 && `RTT from ${ms(low)} to ${ms(high)} ms, probe by probe`}</span>
        <span>{rtts.length > answered.length && "a mark at the top: not answered"}</span>
      </figcaption>
    </figure>
  );
}
