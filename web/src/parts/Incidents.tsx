import { Link } from "react-router";
import type { Incident } from "../api";
import { ago, exactly, ms, percent, span } from "../format";

const bare = (name: string) => name.split(" (")[0] || "a hop that does not answer";

/** Incidents are what several paths had in common, those that go on first. */
export function Incidents({ list }: { list: Incident[] }) {
  if (list.length === 0) return null;
  return (
    <section aria-labelledby="incidents" className="mb-6 border-y border-line">
      <h2 id="incidents" className="sr-only">
        Incidents of the last 24 hours
      </h2>
      <ul>
        {list.map((i) => (
          <One key={i.id} incident={i} />
        ))}
      </ul>
    </section>
  );
}

function One({ incident }: { incident: Incident }) {
  const segment = incident.segments?.[0];
  const paths = incident.paths ?? [];
  const going = incident.ended_at == null;
  const excess = incident.unit === "ratio" ? `${percent(incident.excess)} % lost` : `${ms(incident.excess)} ms more`;
  const length = incident.ended_at ? span(new Date(incident.ended_at).getTime() - new Date(incident.began_at).getTime()) : "";
  return (
    <li className="border-line py-2.5 not-first:border-t" data-incident={incident.id}>
      <details>
        <summary className="cursor-pointer">
          <span className={"whitespace-nowrap " + (going ? "text-ochre" : "text-soft")}>
            <svg viewBox="0 0 16 16" className="mr-2 inline size-4 align-[-0.15em]" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="1.5">
              <path d="M1.5 4.5 8 8l6.5-3.5M1.5 11.5 8 8l6.5 3.5" />
              <circle cx="8" cy="8" r="2.2" fill="currentColor" stroke="none" />
            </svg>
            {going ? "incident" : "incident, over"}
          </span>{" "}
          <span className="font-medium">
            {segment ? `${bare(segment.from_name)} to ${bare(segment.to_name)}` : "one segment"}
          </span>{" "}
          <span className="figures">
            {paths.length} paths, {excess}
          </span>{" "}
          <span className="text-sm text-soft" title={exactly(incident.began_at)}>
            {going ? `for ${ago(incident.began_at).replace(" ago", "")}` : `${ago(incident.began_at)}, for ${length}`}
          </span>
        </summary>
        <div className="mt-2 mb-1 border-l-2 border-line pl-3">
          <p>{incident.sentence}</p>
          <p className="text-sm text-soft">
            {incident.advice} Sure to {Math.floor(incident.confidence * 1000) / 10} %.
          </p>
          {(incident.other_segments ?? []).map((o) => (
            <p key={o.from + o.to} className="text-sm text-soft">
              It may be the segment {bare(o.from_name)} to {bare(o.to_name)} as well.
            </p>
          ))}
          <ul className="mt-1">
            {paths.map((p) => (
              <li key={p.from + p.to + p.family + p.via}>
                {p.path_id ? (
                  <Link to={"/paths/" + p.path_id} className="underline underline-offset-4">
                    {p.from} → {p.to}
                  </Link>
                ) : (
                  `${p.from} → ${p.to}`
                )}{" "}
                <span className="text-sm text-soft">IPv{p.family}</span>
              </li>
            ))}
          </ul>
        </div>
      </details>
    </li>
  );
}
