import { bits, ms } from "../../format";
import type { Found, Result, Step, Verdict } from "./types";
import { amount, bound, figureOf, key, lost, of, verdictOf, way } from "./words";

/** Mark is a verdict: in words, and by the weight and the line of its letters. */
export function Mark({ verdict }: { verdict: Verdict }) {
  const look = { pass: "", fail: "font-semibold text-plum underline decoration-2 underline-offset-4", not_told: "italic text-ochre", "": "text-soft" }[verdict];
  return <span className={look}>{verdictOf(verdict)}</span>;
}

const head = "pr-6 pb-1 font-normal text-soft text-sm";

/** Verdicts are all limits: what was measured, what each is held to, and by how much it is met. */
export function Verdicts({ found, returned }: { found: Found; returned: boolean }) {
  const list = found.criteria ?? [];
  if (list.length === 0) return null;
  return (
    <div className="overflow-x-auto">
      <table className="figures w-full max-w-5xl text-left">
        <thead>
          <tr className="border-b border-line">
            <th scope="col" className={head}>Verdict</th>
            <th scope="col" className={head}>Figure</th>
            <th scope="col" className={head}>Of</th>
            <th scope="col" className={head}>Way</th>
            <th scope="col" className={head + " text-right"}>Measured</th>
            <th scope="col" className={head + " text-right"}>Limit</th>
            <th scope="col" className={head + " text-right"}>Margin</th>
          </tr>
        </thead>
        <tbody>
          {list.map((c) => (
            <tr key={key(c) + c.limit} className="border-b border-line align-baseline" title={c.why}>
              <td className="py-1 pr-6"><Mark verdict={c.verdict} /></td>
              <td className="pr-6">{figureOf(c)}</td>
              <td className="pr-6">
                {of(c)}
                {c.why && c.verdict !== "pass" && <span className="block text-sm text-soft">{c.why}</span>}
              </td>
              <td className="pr-6">{way(c.there, returned)}</td>
              <td className="pr-6 text-right">{amount(c.measured, c.unit)}</td>
              <td className="pr-6 text-right whitespace-nowrap">{bound(c)}</td>
              <td className="pr-6 text-right whitespace-nowrap">{c.margin == null ? "–" : (c.margin < 0 ? "−" : "+") + amount(Math.abs(c.margin), c.unit)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** BySize are the figures of each frame size. */
export function BySize({ found, returned }: { found: Found; returned: boolean }) {
  if (!found.sizes?.length) return null;
  return (
    <section aria-label="By frame size">
      <h3 className="pt-6 pb-2 text-lg">By frame size</h3>
      <div className="overflow-x-auto">
        <table className="figures text-left">
          <thead>
            <tr className="border-b border-line">
              {["Bytes", "Way", "Frames a second", "With FCS", "On the line", "Delay", "Variation", "Burst", "Lost at the highest rate"].map((h, i) => (
                <th key={h} scope="col" className={head + (i === 1 ? "" : " text-right")}>{h}</th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.sizes.flatMap((s) =>
              s.directions.map((d) => {
                const t = d.throughput;
                const wait = d.latency?.delay;
                return (
                  <tr key={`${s.frame_bytes} ${d.there}`} className="border-b border-line">
                    <td className="py-1 pr-6 text-right">{s.frame_bytes}</td>
                    <td className="pr-6">{way(d.there, returned)}</td>
                    <td className="pr-6 text-right" title={t?.limited_by_host}>{!t ? "–" : t.too_large ? "do not fit" : t.rates.frames_per_second.toLocaleString("en-GB", { maximumFractionDigits: 1 }) + (t.limited_by_host ? " (a host’s limit)" : "")}</td>
                    <td className="pr-6 text-right">{t && !t.too_large ? bits(t.rates.frame_bps) : "–"}</td>
                    <td className="pr-6 text-right">{t && !t.too_large ? bits(t.rates.line_bps) : "–"}</td>
                    <td className="pr-6 text-right">{wait ? ms(wait.mean_ms) + " ms" : "–"}</td>
                    <td className="pr-6 text-right">{wait ? ms(wait.p999_ms - wait.least_ms) + " ms" : "–"}</td>
                    <td className="pr-6 text-right">{d.back_to_back ? (d.back_to_back.all_carried ? "≥ " : "") + Math.round(d.back_to_back.frames).toLocaleString("en-GB") + " frames" : "–"}</td>
                    <td className="pr-6 text-right">{lost(d.frame_loss?.[0])}</td>
                  </tr>
                );
              }),
            )}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** ByService are the steps of each service. */
export function ByService({ found, returned }: { found: Found; returned: boolean }) {
  return (
    <>
      {(found.services ?? []).map((s) => (
        <section key={s.service} aria-label={"Service " + s.service}>
          <h3 className="pt-6 pb-2 text-lg">Service {s.service}</h3>
          <div className="overflow-x-auto">
            <table className="figures text-left">
              <thead>
                <tr className="border-b border-line">
                  {["Step", "Way", "Offered", "Received", "Lost", "Delay", "Variation"].map((h, i) => (
                    <th key={h} scope="col" className={head + (i < 2 ? "" : " text-right")}>{h}</th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {s.directions.flatMap((d) => {
                  const steps: [string, Step | undefined][] = [...(d.steps ?? []).map((x): [string, Step] => [`${Math.round(100 * (x.of_most_ratio ?? 0))} % of CIR`, x]), ["CIR + EIR", d.cir_and_eir], ["more than that", d.policing], ["performance", d.performance]];
                  return steps.flatMap(([name, x]) =>
                    x ? (
                      <tr key={`${d.there} ${name}`} className="border-b border-line">
                        <td className="py-1 pr-6">{name}</td>
                        <td className="pr-6">{way(d.there, returned)}</td>
                        <td className="pr-6 text-right">{bits(x.offered.frame_bps)}</td>
                        <td className="pr-6 text-right">{bits(x.received.frame_bps)}</td>
                        <td className="pr-6 text-right">{lost(x)}</td>
                        <td className="pr-6 text-right">{x.delay ? ms(x.delay.mean_ms) + " ms" : "–"}</td>
                        <td className="pr-6 text-right">{x.delay ? ms(x.delay.p999_ms - x.delay.least_ms) + " ms" : "–"}</td>
                      </tr>
                    ) : (
                      []
                    ),
                  );
                })}
              </tbody>
            </table>
          </div>
        </section>
      ))}
    </>
  );
}

/** Evidence is all that was found. */
export function Evidence({ result }: { result: Result }) {
  const returned = result.plan.ends === "returned";
  return (
    <>
      {(result.found.notes ?? []).map((note) => (
        <p key={note} className="pb-2 text-soft">
          {note}
        </p>
      ))}
      <Verdicts found={result.found} returned={returned} />
      <BySize found={result.found} returned={returned} />
      <ByService found={result.found} returned={returned} />
    </>
  );
}
