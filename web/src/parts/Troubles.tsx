import { useQuery } from "@tanstack/react-query";
import { get, type Notice, type Status } from "../api";
import { exactly, span, when } from "../format";

/** Troubles says what is wrong with the service itself, as long as it lasts, and what there was to know in the last day. */
export function Troubles({ status }: { status: Status | undefined }) {
  const notices = useQuery({ queryKey: ["status", "notices"], queryFn: () => get<Notice[]>("/notices"), refetchInterval: 60_000 });
  const lines = status ? standing(status) : [];
  const past = notices.data ?? [];
  if (lines.length === 0 && past.length === 0) return null;
  return (
    <div className="border-b border-line py-3 text-sm">
      {lines.length > 0 && (
        <ul role="alert" className="text-plum">
          {lines.map((line) => (
            <li key={line}>{line}</li>
          ))}
        </ul>
      )}
      {past.length > 0 && (
        <details>
          <summary className="cursor-pointer text-soft underline-offset-4 hover:underline">
            {past.length === 1 ? "1 notice" : `${past.length} notices`} of the last day, the last {when(past[0]!.at)}
          </summary>
          <ul className="max-w-prose pt-2">
            {past.slice(0, 30).map((n) => (
              <li key={n.at + n.text} className="pb-1">
                <time dateTime={n.at} title={exactly(n.at)} className="figures text-soft">
                  {when(n.at)}
                </time>{" "}
                {n.text}
              </li>
            ))}
          </ul>
        </details>
      )}
    </div>
  );
}

function standing(s: Status): string[] {
  const lines: string[] = [];
  if (s.database_away_since_at)
    lines.push(`The database takes nothing since ${when(s.database_away_since_at)}: ${s.database_away_why}. Measuring goes on; ${s.held_back} readings are held back and will be written when it is back.`);
  if (s.disk_full) lines.push(`Full: ${s.disk_full}.`);
  for (const c of s.clocks_off ?? [])
    lines.push(`The clock of agent ${c.agent} is ${span(Math.abs(c.offset_s) * 1000)} ${c.offset_s > 0 ? "ahead" : "behind"}: its readings are marked, and no path is judged by them.`);
  if (s.set_aside > 0) lines.push(`${s.set_aside === 1 ? "1 thing" : `${s.set_aside} things`} that nobody takes ${s.set_aside === 1 ? "is" : "are"} set aside at agents; see Agents.`);
  return lines;
}
