import type { Series } from "../api";
import { exactly, ms, percent } from "../format";

const shown = 500;

/** SeriesTable is the plot's data as a table. */
export function SeriesTable({ series }: { series: Series }) {
  const at = series.at ?? [];
  const first = Math.max(0, at.length - shown);
  return (
    <div className="max-h-96 overflow-auto border-y border-line" tabIndex={0} role="region" aria-label="Table of the plot's data">
      <table className="figures w-full text-sm">
        <thead className="sticky top-0 bg-paper text-soft">
          <tr>
            {["Time", "RTT median, ms", "Least", "95 % within", "Longest", "Loss, %", "Probes"].map((h, i) => (
              <th key={h} scope="col" className={"px-2 py-1 font-normal " + (i ? "text-right" : "text-left")}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {at.slice(first).map((t, k) => {
            const i = first + k;
            return (
              <tr key={t} className="border-t border-line">
                <td className="px-2 py-1">{exactly(t)}</td>
                {[ms(series.rtt_median_ms?.[i]), ms(series.rtt_min_ms?.[i]), ms(series.rtt_p95_ms?.[i]), ms(series.rtt_max_ms?.[i]), percent(series.loss_ratio?.[i]), series.sent?.[i]].map((v, n) => (
                  <td key={n} className="px-2 py-1 text-right">
                    {v}
                  </td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </table>
      {first > 0 && <p className="px-2 py-2 text-sm text-soft">The newest {shown} of {at.length}; the CSV has all.</p>}
    </div>
  );
}

/** toCSV writes a series as CSV (RFC 4180), absent figures empty. */
export function toCSV(s: Series): string {
  const rows = [["at", "span_s", "rtt_min_ms", "rtt_median_ms", "rtt_p95_ms", "rtt_max_ms", "loss_ratio", "sent", "lost"].join(",")];
  (s.at ?? []).forEach((t, i) =>
    rows.push([t, s.span_s?.[i], s.rtt_min_ms?.[i], s.rtt_median_ms?.[i], s.rtt_p95_ms?.[i], s.rtt_max_ms?.[i], s.loss_ratio?.[i], s.sent?.[i], s.lost?.[i]].map((v) => v ?? "").join(",")),
  );
  return rows.join("\r\n") + "\r\n";
}
