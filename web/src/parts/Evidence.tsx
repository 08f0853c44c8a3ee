import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { get, type Episode, type Evidence as Item, type Path } from "../api";
import { exactly, ms, percent, when } from "../format";

const FoundRun = lazy(() => import("./FoundRun"));

const phases = [
  ["before", "Before"],
  ["opening", "As it began"],
  ["closing", "As it ended"],
] as const;

/** Evidence is what was measured as episodes began and ended, beside the same of before. */
export function Evidence({ path }: { path: Path }) {
  const episodes = (path.episodes ?? []).filter((e) => e.id);
  return episodes.map((e) => <OfEpisode key={e.id} path={path.id} episode={e} />);
}

function OfEpisode({ path, episode }: { path: string; episode: Episode }) {
  const list = useQuery({ queryKey: ["evidence", episode.id], queryFn: () => get<Item[]>(`/paths/${path}/evidence?episode=${episode.id}`) });
  const [shown, show] = useState("");
  const items = list.data ?? [];
  if (items.length === 0) return null;
  const whats = [...new Set(items.map((x) => x.what))];
  return (
    <section aria-labelledby={"evidence-" + episode.id} className="md:col-span-2">
      <h2 id={"evidence-" + episode.id} className="text-lg">
        Evidence taken while it lasted
      </h2>
      <table className="figures mt-2 w-full">
        <caption className="pb-1 text-left text-sm text-soft">Of the episode that began {when(episode.from_at)}</caption>
        <thead className="text-sm text-soft">
          <tr>
            <th scope="col" className="text-left font-normal">What</th>
            {phases.map(([key, name]) => (
              <th key={key} scope="col" className="text-left font-normal">
                {name}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {whats.map((what) => (
            <tr key={what} className="border-t border-line align-top">
              <th scope="row" className="py-1 text-left font-normal">
                {what}
              </th>
              {phases.map(([key]) => (
                <td key={key} className="py-1 pr-2">
                  {items
                    .filter((x) => x.what === what && x.phase === key)
                    .map((x) => (
                      <Cell key={x.at} item={x} shown={shown} show={show} />
                    ))}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {shown && (
        <Suspense fallback={<p className="text-soft">One moment …</p>}>
          <FoundRun id={shown} />
        </Suspense>
      )}
    </section>
  );
}

function Cell({ item, shown, show }: { item: Item; shown: string; show: (id: string) => void }) {
  const run = item.run;
  if (!run) return <span className="text-soft">{item.says}</span>;
  const figures = [
    run.answered_count != null && run.asked_count != null ? `${run.answered_count} of ${run.asked_count}` : "",
    run.reading?.rtt_median_ms != null ? `${ms(run.reading.rtt_median_ms)} ms` : "",
    run.reading?.loss_ratio ? `${percent(run.reading.loss_ratio)} % lost` : "",
  ].filter(Boolean);
  return (
    <button type="button" aria-expanded={shown === run.id} className="text-left underline decoration-line underline-offset-4 hover:decoration-ink" title={exactly(item.at)} onClick={() => show(shown === run.id ? "" : run.id)}>
      {when(item.at)}
      {run.outcome === "done" ? figures.length > 0 && `: ${figures.join(", ")}` : `: ${run.reason || run.outcome}`}
    </button>
  );
}
