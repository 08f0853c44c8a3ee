import type { Sweep } from "../api";
import { exactly, ms, span, when } from "../format";
import { SweepMap } from "./SweepMap";

const grouped = (n: number) => n.toLocaleString("en-GB");

/** SweepResult tells what one sweep found. */
export function SweepResult({ sweep }: { sweep: Pick<Sweep, "from" | "prefixes" | "started_at" | "ended_at" | "outcome" | "reason" | "sent" | "of" | "report"> }) {
  const r = sweep.report;
  return (
    <div>
      <p className="flex flex-wrap items-baseline gap-x-3">
        <span className="font-medium">{(sweep.prefixes ?? []).join(", ")}</span>
        <span className="text-soft" title={exactly(sweep.started_at)}>
          from {sweep.from}, {when(sweep.started_at)}
          {sweep.ended_at && `, ${span(new Date(sweep.ended_at).getTime() - new Date(sweep.started_at).getTime())}`}
        </span>
      </p>
      {sweep.outcome === "running" && (
        <p role="status" className="figures pt-2">
          {grouped(sweep.sent)} of {grouped(sweep.of)} packets sent so far; what is silent is asked a second time.
        </p>
      )}
      {sweep.outcome !== "running" && sweep.outcome !== "done" && (
        <p className="pt-2 text-plum">
          {sweep.outcome}: {sweep.reason}
        </p>
      )}
      {r && (
        <>
          <p className="pt-3 text-xl font-light">
            {grouped(r.answered)} of {grouped(r.probed)} addresses answer{changes(r)}.
          </p>
          <div className="pt-4">
            <SweepMap report={r} />
          </div>
          <Changes report={r} />
          <Hosts report={r} name={`sweep ${sweep.started_at}.csv`} />
        </>
      )}
    </div>
  );
}

type Report = NonNullable<Sweep["report"]>;

function changes(r: Report): string {
  if (!r.compared_with_at) return "; there is no earlier sweep of them to compare with";
  const parts = [
    [r.new?.length ?? 0, "new"],
    [r.gone?.length ?? 0, "gone"],
    [r.slower?.length ?? 0, "slower"],
  ].filter(([n]) => (n as number) > 0);
  if (parts.length === 0) return `, the same as ${when(r.compared_with_at)}`;
  return `; since ${when(r.compared_with_at)} ` + parts.map(([n, what]) => `${n} ${what}`).join(", ");
}

function Changes({ report }: { report: Report }) {
  const lists: [string, string[]][] = [
    ["New", report.new ?? []],
    ["Gone", report.gone ?? []],
    ["Slower", (report.slower ?? []).map((s) => `${s.address}: ${ms(s.rtt_ms)} ms, was ${ms(s.before_ms)} ms`)],
  ];
  if (lists.every(([, list]) => list.length === 0)) return null;
  return (
    <div className="grid gap-x-10 gap-y-4 pt-5 md:grid-cols-3">
      {lists.map(([name, list]) => (
        <section key={name} aria-label={name}>
          <h3 className="border-b border-line pb-1">
            {name} <span className="text-soft">{list.length}</span>
          </h3>
          <ul className="figures max-h-48 overflow-auto pt-1" tabIndex={0} aria-label={name + " addresses"}>
            {list.slice(0, 500).map((text) => (
              <li key={text}>{text}</li>
            ))}
            {list.length === 0 && <li className="text-soft">none</li>}
          </ul>
        </section>
      ))}
    </div>
  );
}

const mostHosts = 1000;

function Hosts({ report, name }: { report: Report; name: string }) {
  const hosts = report.hosts ?? [];
  const ports = (h: (typeof hosts)[number]) => [...(h.open_ports ?? []).map((p) => `${p} open`), ...(h.closed_ports ?? []).map((p) => `${p} closed`)].join(", ");
  const cell = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);
  const csv = [["address", "rtt_ms", "name", "mac", "ports"], ...hosts.map((h) => [h.address, h.rtt_ms == null ? "" : String(h.rtt_ms), h.name, h.mac, ports(h)])].map((row) => row.map(cell).join(",")).join("\r\n");
  const columns: [string, boolean][] = [
    ["name", hosts.some((h) => h.name)],
    ["mac", hosts.some((h) => h.mac)],
    ["ports", hosts.some((h) => ports(h))],
  ];
  const shown = new Set(columns.filter(([, on]) => on).map(([n]) => n));
  return (
    <section aria-labelledby="hosts" className="pt-6">
      <div className="flex items-baseline gap-4">
        <h3 id="hosts" className="text-lg">
          Hosts
        </h3>
        <a download={name} href={"data:text/csv;charset=utf-8," + encodeURIComponent(csv)} className="ml-auto text-sm text-soft underline-offset-4 hover:underline">
          CSV
        </a>
      </div>
      <div className="max-h-[28rem] overflow-auto" tabIndex={0} role="group" aria-label="Hosts that answer">
        <table className="figures w-full text-left">
          <thead className="sticky top-0 bg-paper text-sm text-soft">
            <tr>
              <th scope="col" className="py-1 font-normal">Address</th>
              <th scope="col" className="w-28 text-right font-normal">RTT, ms</th>
              {shown.has("name") && <th scope="col" className="pl-8 font-normal">Name</th>}
              {shown.has("mac") && <th scope="col" className="pl-8 font-normal">Hardware</th>}
              {shown.has("ports") && <th scope="col" className="pl-8 font-normal">Ports</th>}
            </tr>
          </thead>
          <tbody>
            {hosts.slice(0, mostHosts).map((h) => (
              <tr key={h.address} className="border-t border-line">
                <th scope="row" className="py-0.5 font-normal">{h.address}</th>
                <td className="text-right" title={h.rtt_ms == null ? "It answers, but was not timed" : undefined}>{ms(h.rtt_ms)}</td>
                {shown.has("name") && <td className="pl-8">{h.name}</td>}
                {shown.has("mac") && <td className="pl-8">{h.mac}</td>}
                {shown.has("ports") && <td className="pl-8">{ports(h)}</td>}
              </tr>
            ))}
          </tbody>
        </table>
        {hosts.length > mostHosts && <p className="py-2 text-sm text-soft">and {grouped(hosts.length - mostHosts)} more; the CSV has all</p>}
      </div>
    </section>
  );
}
