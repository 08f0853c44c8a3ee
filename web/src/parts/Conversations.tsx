import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type Conversation } from "../api";
import { ms, percent, span, when } from "../format";

/** Conversations lists whom programs of agents' machines talked to, and how well, once any did. */
export function Conversations() {
  const list = useQuery({ queryKey: ["conversations"], queryFn: () => get<Conversation[]>("/conversations?limit=30"), refetchInterval: 10_000 });
  const all = list.data ?? [];
  if (all.length === 0) return null;
  return (
    <section aria-labelledby="conversations" className="mt-8 border-t border-line pt-6">
      <h2 id="conversations" className="text-lg">
        Conversations
      </h2>
      <table className="figures mt-2 w-full">
        <caption className="pb-1 text-left text-soft">Whom programs talked to, measured while they did, newest first</caption>
        <thead className="text-sm text-soft">
          <tr>
            {["Program", "Server", "From", "Began", "For"].map((h) => (
              <th key={h} scope="col" className="pr-4 text-left font-normal">
                {h}
              </th>
            ))}
            {["RTT, ms", "Jitter, ms", "Lost, %"].map((h) => (
              <th key={h} scope="col" className="text-right font-normal">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.map((c) => (
            <tr key={c.id} className="border-t border-line align-top">
              <th scope="row" className="py-1 pr-4 text-left font-normal">{c.program || "not to be seen"}</th>
              <td className="pr-4">
                {c.path ? (
                  <Link to={`/paths/${c.path}?range=1%20h&from=${new Date(c.began_at).getTime() - 60_000}&to=${c.ended_at ? new Date(c.ended_at).getTime() + 60_000 : Date.now()}`} className="underline decoration-line underline-offset-4 hover:decoration-ink">
                    {c.server} port {c.port}, {c.protocol}
                  </Link>
                ) : (
                  `${c.server} port ${c.port}, ${c.protocol}`
                )}
                {c.says && <p className="text-sm text-soft">{c.says}</p>}
              </td>
              <td className="pr-4">{c.from}</td>
              <td className="pr-4">{when(c.began_at)}</td>
              <td className="pr-4">{c.ended_at ? span(new Date(c.ended_at).getTime() - new Date(c.began_at).getTime()) : "goes on"}</td>
              <td className="text-right">{ms(c.figures?.rtt_median_ms)}</td>
              <td className="text-right">{ms(c.figures?.jitter_ms)}</td>
              <td className="text-right">{percent(c.figures && c.figures.sent > 0 ? c.figures.lost / c.figures.sent : null)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
