import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link } from "react-router";
import { call, get, post, put, remove, type Owner, type Site } from "../api";
import { degrees } from "../placeForm";
import { listed } from "../kinds/values";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { May } from "../may";

const quiet = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";

/** Sites says where sites are and what stands at them. */
export function Sites() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["sites"], queryFn: () => get<Site[]>("/sites") });
  const [changing, setChanging] = useState<Site>();
  const changed = () => void client.invalidateQueries({ queryKey: ["sites"] });
  const forget = useMutation({ mutationFn: (name: string) => remove("/api/v1/sites/{name}", { name }), onSuccess: changed });
  const sites = list.data ?? [];
  return (
    <section aria-labelledby="sites" className="mt-10 border-t border-line pt-6">
      <h2 id="sites" className="text-lg">
        Sites
      </h2>
      <p className="max-w-3xl text-soft">
        Agents say their site themselves; say here where sites are, and which other targets stand there. They stand on the map of a{" "}
        <Link to="/boards" className="text-ink underline underline-offset-4">
          board
        </Link>
        .
      </p>
      {list.data && sites.length === 0 && <p className="pt-2">No site is known yet: name one below, or take in a file.</p>}
      <ul className="pt-2">
        {sites.map((s) => (
          <li key={s.name} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-1.5">
            <span className="min-w-40">{s.name}</span>
            <span className="figures min-w-36 text-soft">{s.lat_deg == null || s.lon_deg == null ? "not known where" : `${s.lat_deg}, ${s.lon_deg}`}</span>
            <span className="text-sm text-soft">
              {s.agents > 0 && `${s.agents === 1 ? "1 agent" : `${s.agents} agents`}, `}
              {s.paths === 1 ? "1 path" : `${s.paths} paths`} to it
              {s.targets && s.targets.length > 0 && `; ${s.targets.join(", ")}`}
              {s.note && `; ${s.note}`}
            </span>
            <span className="ml-auto flex gap-4">
              <May call="say-sites"><button type="button" className={quiet} aria-label={`Change site ${s.name}`} onClick={() => setChanging(s)}>
                Change
              </button></May>
              {s.said && (
                <May call="forget-site"><button type="button" className={quiet} aria-label={`Forget site ${s.name}`} onClick={() => forget.mutate(s.name)}>
                  Forget
                </button></May>
              )}
            </span>
          </li>
        ))}
      </ul>
      {forget.error && <Alert>{forget.error.message}</Alert>}
      <SiteForm key={changing?.name ?? ""} site={changing} done={() => { setChanging(undefined); changed(); }} />
      <FileOf of="sites" headings="name, latitude, longitude, targets, note" done={changed} />
    </section>
  );
}

const Alert = ({ children }: { children: ReactNode }) => (
  <p role="alert" className="border-l-2 border-plum pl-3 whitespace-pre-line">
    {children}
  </p>
);

function SiteForm({ site, done }: { site?: Site; done: () => void }) {
  const [name, setName] = useState(site?.name ?? "");
  const [lat, setLat] = useState(site?.lat_deg?.toString() ?? "");
  const [lon, setLon] = useState(site?.lon_deg?.toString() ?? "");
  const [targets, setTargets] = useState((site?.targets ?? []).join(", "));
  const [note, setNote] = useState(site?.note ?? "");
  const [a, b] = [degrees(lat, 90, "N", "S"), degrees(lon, 180, "E", "W")];
  const save = useMutation({
    mutationFn: () => put<Site[], "/api/v1/sites">("/api/v1/sites", {}, { sites: [{ name: name.trim(), ...(a.value !== undefined && b.value !== undefined ? { lat_deg: a.value, lon_deg: b.value } : {}), targets: listed(targets), note: note.trim() }] }),
    onSuccess: () => {
      for (const set of [setName, setLat, setLon, setTargets, setNote]) set("");
      done();
    },
  });
  const half = (a.value === undefined) !== (b.value === undefined);
  return (
    <May call="say-sites"><form className="flex flex-wrap items-end gap-x-6 gap-y-3 py-3" onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
      <Field label="Site" value={name} onChange={setName} hint="Holm" />
      <Field label="Latitude, degrees" value={lat} onChange={setLat} hint="60.154" wrong={a.wrong} />
      <Field label="Longitude, degrees" value={lon} onChange={setLon} hint="-1.145" wrong={b.wrong ?? (half && !a.wrong ? "both or none" : undefined)} />
      <Field wide label="Targets there" value={targets} onChange={setTargets} hint="terminal.holm.example, 203.0.113.24/29" />
      <Field label="Note" value={note} onChange={setNote} />
      <button type="submit" className={button} disabled={!name.trim() || half || a.wrong !== undefined || b.wrong !== undefined || save.isPending}>
        {site ? "Change it" : "Say it"}
      </button>
      {site && (
        <button type="button" className={quiet + " pb-2"} onClick={done}>
          Leave it
        </button>
      )}
      {save.error && <Alert>{save.error.message}</Alert>}
    </form></May>
  );
}

/** FileOf takes in a file of CSV, and gives one. */
function FileOf({ of, headings, done }: { of: "sites" | "owners"; headings: string; done: () => void }) {
  const take = useMutation({
    mutationFn: async (f: File) => post<unknown[], "/api/v1/sites/import">(`/api/v1/${of}/import` as "/api/v1/sites/import", { csv: await f.text() }),
    onSuccess: done,
  });
  return (
    <div className="flex flex-wrap items-center gap-x-6 gap-y-2 text-sm text-soft">
      <May call={of === "sites" ? "import-sites" : "import-owners"}><label className="flex flex-wrap items-center gap-2">
        Take in a file of CSV ({headings})
        <input type="file" accept=".csv,text/csv" onChange={(e) => { const f = e.target.files?.[0]; if (f) take.mutate(f); e.target.value = ""; }} className="max-w-56 cursor-pointer file:mr-3 file:cursor-pointer file:border file:border-line file:bg-transparent file:px-3 file:py-1 file:text-ink" />
      </label></May>
      <a className={quiet} href={`/api/v1/${of}/export`} download>
        Download them
      </a>
      {take.isSuccess && <span role="status">Taken in: {take.data.length} are known now.</span>}
      {take.error && <Alert>{take.error.message}</Alert>}
    </div>
  );
}

const parts = ["ours", "access", "transit", "far end"] as const;

/** Owners says who has which prefixes. */
export function Owners() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["owners"], queryFn: () => get<Owner[]>("/owners") });
  const [prefix, setPrefix] = useState("");
  const [owner, setOwner] = useState("");
  const [kind, setKind] = useState<string>("transit");
  const changed = () => void client.invalidateQueries({ queryKey: ["owners"] });
  const save = useMutation({
    mutationFn: () => put<Owner[], "/api/v1/owners">("/api/v1/owners", {}, { owners: [{ prefix: prefix.trim(), owner: owner.trim(), kind: kind as (typeof parts)[number] }] }),
    onSuccess: () => {
      setPrefix("");
      setOwner("");
      changed();
    },
  });
  const forget = useMutation({ mutationFn: (p: string) => call<void>("DELETE", "/owners?prefix=" + encodeURIComponent(p)), onSuccess: changed });
  const owners = list.data ?? [];
  return (
    <section aria-labelledby="owners" className="mt-10 border-t border-line pt-6">
      <h2 id="owners" className="text-lg">
        Owners of prefixes
      </h2>
      <p className="max-w-3xl text-soft">Hops are told with whose they are, and whose part of the way that is. Of prefixes within each other the longer one counts.</p>
      {list.data && owners.length === 0 && <p className="pt-2">It is not known who has which prefixes: say it below, or take in a file.</p>}
      <ul className="pt-2">
        {owners.map((o) => (
          <li key={o.prefix} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-1.5">
            <span className="figures min-w-44">{o.prefix}</span>
            <span className="min-w-44">{o.owner}</span>
            <span className="text-soft">{o.kind}</span>
            <span className="ml-auto">
              {o.given ? (
                <span className="text-sm text-soft">by the settings' file</span>
              ) : (
                <May call="forget-owner"><button type="button" className={quiet} aria-label={`Forget the owner of ${o.prefix}`} onClick={() => forget.mutate(o.prefix)}>
                  Forget
                </button></May>
              )}
            </span>
          </li>
        ))}
      </ul>
      <May call="say-owners"><form className="flex flex-wrap items-end gap-x-6 gap-y-3 py-3" onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
        <Field label="Prefix" value={prefix} onChange={setPrefix} hint="198.51.100.0/24" />
        <Field label="Owner" value={owner} onChange={setOwner} hint="Kelpnet" />
        <Choice above needed label="Part of the way" value={kind} values={[...parts]} onChange={setKind} />
        <button type="submit" className={button} disabled={!prefix.trim() || !owner.trim() || save.isPending}>
          Say it
        </button>
      </form></May>
      {(save.error ?? forget.error) && <Alert>{(save.error ?? forget.error)!.message}</Alert>}
      <FileOf of="owners" headings="prefix, owner, kind" done={changed} />
    </section>
  );
}
