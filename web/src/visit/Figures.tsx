import { bits, ms as figure, percent } from "../format";
import type { Found } from "./types";

const by: Record<string, string> = { visitor: "by the visitor's word", service: "seen by the service", both: "seen by the service, against what the visitor sent" };
const ms = (v: number | null | undefined) => (v == null ? "–" : `${figure(v)} ms`);
const head = "pr-6 pb-1 font-normal text-soft text-sm";

/** Figures are those of a visit, each with on whose word it rests. */
export function Figures({ found }: { found: Found }) {
  const rows: { what: string; way: string; value: string; more: string; by: string }[] = [];
  const trip = (what: string, way: string, t: Found["rest"] | undefined) => {
    if (t) rows.push({ what, way, value: ms(t.median_ms), more: `95 % within ${ms(t.p95_ms)}${t.lost ? `; ${t.lost} of ${t.sent} without an answer` : ""}`, by: t.by });
  };
  trip("Round trip at rest, over HTTP", "", found.rest);
  trip("Round trip at rest, of packets", "", found.rest_packets);
  for (const w of found.ways ?? []) {
    const way = w.there ? "there" : "back";
    rows.push({ what: "Packets lost", way, value: w.lost == null ? "–" : percent(w.loss_ratio), more: w.lost == null ? "" : `${w.lost} of ${w.sent}`, by: w.by });
    rows.push({ what: "Delay variation, 99.9 % less the least", way, value: ms(w.variation_ms), more: `jitter ${ms(w.jitter_ms)}`, by: w.by });
    rows.push({ what: "Packets out of order", way, value: String(w.reordered), more: w.duplicates ? `${w.duplicates} came twice` : "", by: w.by });
  }
  for (const r of found.rates ?? []) rows.push({ what: "Rate, of HTTP's payload", way: r.there ? "there" : "back", value: r.bps == null ? "–" : bits(r.bps), more: r.still_rising ? "it still rose at the end" : "", by: r.by });
  for (const l of found.loaded ?? []) trip("Round trip while the line is full", l.there ? "there" : "back", l);
  return (
    <section aria-label="Figures">
      <h3 className="pt-2 pb-1 text-lg">Figures</h3>
      <div className="relative overflow-x-auto" tabIndex={0} role="region" aria-label="Figures, a table">
        <table className="figures text-left">
          <thead>
            <tr className="border-b border-line">
              {["What", "Way", "Measured", "", "On whose word"].map((h) => (
                <th key={h} scope="col" className={head + (h === "Measured" ? " text-right" : "")}>
                  {h || <span className="sr-only">More</span>}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.what + r.way} className="border-b border-line align-baseline">
                <td className="py-1 pr-6">{r.what}</td>
                <td className="pr-6">{r.way}</td>
                <td className="pr-6 text-right whitespace-nowrap">{r.value}</td>
                <td className="pr-6 text-sm whitespace-nowrap text-soft">{r.more}</td>
                <td className="text-sm text-soft">{by[r.by]}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {(found.notes ?? []).map((note) => (
        <p key={note} className="max-w-2xl pt-2">
          {note}
        </p>
      ))}
    </section>
  );
}
