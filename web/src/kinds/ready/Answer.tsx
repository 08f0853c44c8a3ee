import type { Result, Verdict } from "./types";
import { amount, answers, bound } from "./words";

const look: Record<Verdict, string> = { pass: "", fail: "font-semibold text-plum underline decoration-2 underline-offset-4", not_told: "italic text-ochre", "": "text-soft" };
const said: Record<Verdict, string> = { pass: "holds", fail: "missed", not_told: "not told", "": "" };
const head = "pr-6 pb-1 font-normal text-soft text-sm";

/** Answer is the one plain answer, and what to do. */
export function Answer({ result }: { result: Result }) {
  const f = result.found;
  return (
    <div className="max-w-3xl">
      <p className="pb-1 text-xl">
        <span className={f.answer === "not_fit" ? look.fail : f.answer === "not_told" ? look.not_told : ""}>{answers[f.answer]}</span>
      </p>
      <p className="figures pb-3">{f.sentence}</p>
      {(f.advice ?? []).length > 0 && (
        <section aria-label="What to do">
          <h3 className="pb-1 text-lg">What to do</h3>
          <ol className="list-decimal space-y-1 pb-3 pl-6">
            {f.advice!.map((a) => (
              <li key={a}>{a}</li>
            ))}
          </ol>
        </section>
      )}
      {(f.notes ?? []).map((text) => (
        <p key={text} className="pb-2 text-soft">
          {text}
        </p>
      ))}
    </div>
  );
}

/** Evidence is what the answer rests on. */
export function Evidence({ result, once }: { result: Result; once?: boolean }) {
  const list = result.found.criteria ?? [];
  return (
    <section aria-label="What it asks">
      <h3 className="pt-2 pb-1 text-lg">What it asks</h3>
      <div className="overflow-x-auto">
        <table className="figures text-left">
          <thead>
            <tr className="border-b border-line">
              {["Verdict", "What", "Way", "Measured", "Asked"].map((h, i) => (
                <th key={h} scope="col" className={head + (i > 2 ? " text-right" : "") + (i === 4 ? " pr-0" : "")}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {list.map((c) => (
              <tr key={c.part + c.what + (c.way ?? "")} className="border-b border-line align-baseline">
                <td className="py-1 pr-6">
                  <span className={look[c.verdict]}>{said[c.verdict]}</span>
                </td>
                <td className="pr-6">
                  {c.what}
                  {c.why && c.verdict !== "pass" && <span className="block max-w-xl text-sm text-soft">{c.why}</span>}
                </td>
                <td className="pr-6">{c.way}</td>
                <td className="pr-6 text-right whitespace-nowrap">{amount(c.measured, c.unit)}</td>
                <td className="text-right whitespace-nowrap">{bound(c)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Route name="The way there" hops={result.facts.route_there} untold={result.facts.untold?.["route"]} />
      <Route name="The way back" hops={result.facts.route_back} untold={result.facts.untold?.["way_back"]} />
      <p className="pt-3 text-sm text-soft">It was so at that moment, which is no guarantee{once ? "." : ": as a watch it is asked again and again."}</p>
    </section>
  );
}

function Route({ name, hops, untold }: { name: string; hops?: string[]; untold?: string }) {
  if (!hops?.length && !untold) return null;
  return (
    <p className="pt-2 text-sm">
      <span className="text-soft">{name}: </span>
      {hops?.length ? hops.join("  ›  ") : `could not be told: ${untold}`}
    </p>
  );
}
