import { useMutation, useQueryClient } from "@tanstack/react-query";
import { call, type Episode, type Excess, type Path, type Property } from "../api";
import { bits, ms, percent, when } from "../format";
import { May } from "../may";

const names: Record<string, string> = {
  rtt: "RTT, median",
  jitter: "Jitter",
  loss: "Loss",
  delay_there: "Delay there",
  delay_back: "Delay back",
  jitter_there: "Jitter there",
  jitter_back: "Jitter back",
  loss_there: "Loss there",
  loss_back: "Loss back",
  mos: "MOS",
  throughput_there: "Throughput there",
  throughput_back: "Throughput back",
  hops: "Hops",
  resolve: "Name resolution",
  answering: "Addresses answering",
};

/** figure writes a value of a measure, without its unit where the table says it. */
function figure(unit: string, v: number): string {
  if (unit === "ms") return ms(v);
  if (unit === "ratio") return percent(v);
  if (unit === "bps") return bits(v);
  return unit === "mos" ? v.toFixed(2) : v.toFixed(0);
}

const units: Record<string, string> = { ms: "ms", ratio: "%" };

/** BeforeAndDuring lays what was normal beside what came, of each episode that goes on. */
export function BeforeAndDuring({ path }: { path: Path }) {
  const going = (path.episodes ?? []).filter((e) => e.kind !== "lost" || e.route_change);
  if (going.length === 0) return null;
  return (
    <section aria-labelledby="during" className="md:col-span-2">
      <h2 id="during" className="text-lg">
        Before and during
      </h2>
      {going.map((e) => (
        <One key={e.id} episode={e} />
      ))}
    </section>
  );
}

function One({ episode }: { episode: Episode }) {
  const doubt = (new Date(episode.began_latest_at).getTime() - new Date(episode.began_earliest_at).getTime()) / 120_000;
  return (
    <div className="mt-2">
      <table className="figures w-full">
        <caption className="pb-1 text-left text-sm text-soft">
          Since {when(episode.from_at)}
          {doubt >= 0.5 && ` (± ${Math.round(doubt)} min)`}, told {when(episode.told_at)}
          {episode.times > 1 && `; it came ${episode.times} times`}
        </caption>
        <thead className="text-sm text-soft">
          <tr>
            <th scope="col" className="text-left font-normal">Measure</th>
            <th scope="col" className="text-right font-normal">Before</th>
            <th scope="col" className="text-right font-normal">During</th>
            <th scope="col" className="text-right font-normal max-md:hidden">At worst</th>
          </tr>
        </thead>
        <tbody>
          {(episode.excesses ?? []).map((x) => (
            <Line key={x.measure} excess={x} />
          ))}
        </tbody>
      </table>
      {episode.route_change && (
        <table className="figures mt-2 w-full">
          <caption className="pb-1 text-left text-sm text-soft">The route changed between {when(episode.route_change.before_at)} and {when(episode.route_change.at)}</caption>
          <thead className="text-sm text-soft">
            <tr>
              <th scope="col" className="text-left font-normal">Hop</th>
              <th scope="col" className="text-left font-normal">Before</th>
              <th scope="col" className="text-left font-normal">During</th>
            </tr>
          </thead>
          <tbody>
            {Array.from({ length: Math.max((episode.route_change.old_hops ?? []).length, (episode.route_change.new_hops ?? []).length) }, (_, i) => {
              const was = episode.route_change!.old_hops?.[i];
              const is = episode.route_change!.new_hops?.[i];
              const call = (hop: string | undefined) => (hop === undefined ? "" : hop === "" ? "does not answer" : hop === episode.route_change!.hop ? `${hop}  ${episode.route_change!.hop_name}` : hop === episode.route_change!.was ? `${hop}  ${episode.route_change!.was_name}` : hop);
              return (
                <tr key={i} className="border-t border-line">
                  <th scope="row" className="py-1 text-left font-normal">{i + 1}</th>
                  <td className={was === is ? "text-soft" : ""}>{call(was)}</td>
                  <td className={was === is ? "text-soft" : "text-ochre"}>{call(is)}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
    </div>
  );
}

function Line({ excess: x }: { excess: Excess }) {
  const unit = units[x.unit] ?? "";
  return (
    <tr className="border-t border-line">
      <th scope="row" className="py-1 text-left font-normal">{names[x.measure] ?? x.measure}</th>
      <td className="text-right">
        {figure(x.unit, x.normal)} <span className="font-light text-soft">{unit}</span>{" "}
        <span className="text-sm text-soft max-md:block">
          {figure(x.unit, x.normal_low)} to {figure(x.unit, x.normal_high)}
        </span>
      </td>
      <td className="text-right text-ochre">
        {figure(x.unit, x.now)} <span className="font-light text-soft">{unit}</span>{" "}
        <span className="text-sm text-soft max-md:block">
          {figure(x.unit, x.now_low)} to {figure(x.unit, x.now_high)} at 95 %
        </span>
      </td>
      <td className="text-right max-md:hidden">
        {figure(x.unit, x.worst)} <span className="font-light text-soft">{unit}</span>
      </td>
    </tr>
  );
}

/** Accepting lets a person say that what a path has come to is normal. */
export function Accepting({ path }: { path: Path }) {
  const waits = (path.properties ?? []).filter((p) => p.waits);
  if (waits.length === 0) return null;
  return (
    <section aria-labelledby="accepting">
      <h2 id="accepting" className="text-lg">
        Waits to be accepted
      </h2>
      <ul className="mt-2 space-y-3">
        {waits.map((p) => (
          <Waiting key={p.kind + p.measure} path={path} property={p} />
        ))}
      </ul>
    </section>
  );
}

function Waiting({ path, property }: { path: Path; property: Property }) {
  const client = useQueryClient();
  const accept = useMutation({
    mutationFn: () => call<Path>("POST", `/paths/${path.id}/accept`, { kind: property.kind, measure: property.measure }),
    onSuccess: (after) => client.setQueryData(["path", path.id, "standing"], after),
    onSettled: () => client.invalidateQueries({ queryKey: ["path", path.id] }),
  });
  return (
    <li className="border-l-2 border-line pl-3">
      <p>{property.sentence}</p>
      <p className="text-sm text-soft">
        <May call="accept-level"><button type="button" disabled={accept.isPending} onClick={() => accept.mutate()} className="cursor-pointer text-ink underline underline-offset-4">
          Accept it as normal
        </button></May>
        {property.accepted_by_itself_at && ` Else it is taken for normal by itself ${when(property.accepted_by_itself_at)}.`}
        {accept.error && <span className="text-plum"> {accept.error.message}</span>}
      </p>
    </li>
  );
}
