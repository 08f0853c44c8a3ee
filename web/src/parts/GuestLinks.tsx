import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type GuestLink, type GuestLinkSpec, type GuestOpening } from "../api";
import { exactly, when } from "../format";
import { words } from "../kinds/values";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { Tick } from "./KindForm";
import { Moment } from "./WatchEditor";
import { May } from "../may";

const quiet = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";

/** GuestLinks lists the links by which somebody outside sees one thing, and makes ones of reports. */
export function GuestLinks() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["guest-links"], queryFn: () => get<GuestLink[]>("/guest-links"), refetchInterval: 60_000 });
  const [open, setOpen] = useState("");
  const changed = () => client.invalidateQueries({ queryKey: ["guest-links"] });
  const end = useMutation({ mutationFn: (id: string) => remove("/api/v1/guest-links/{id}", { id }), onSuccess: changed });
  const links = list.data ?? [];
  return (
    <section aria-labelledby="guests" className="mt-10 border-t border-line pt-6">
      <h2 id="guests" className="text-lg">
        Guest links
      </h2>
      <p className="text-soft">
        {links.length === 0 ? "Nobody outside sees anything yet. " : ""}A link shows one report, path, incident, board or run until a date, and lets nothing be changed. A link to a path or a board is made on its own page.
      </p>
      <ul className="pt-2">
        {links.map((l) => (
          <li key={l.id} className="border-t border-line py-2">
            <div className="flex flex-wrap gap-x-6 gap-y-1">
              <span className="min-w-48">{l.title}</span>
              <span className="text-soft">
                {l.what}, {l.frozen ? "frozen" : "live"}
                {l.asks_for_passphrase && ", with a passphrase"}
              </span>
              <span className={l.state === "open" ? "" : "text-soft"} title={exactly(l.ends_at)}>
                {l.state === "open" ? `until ${when(l.ends_at)}` : l.state}
              </span>
              <span className="ml-auto flex gap-4">
                <May call="list-guest-openings"><button type="button" className={quiet} aria-expanded={open === l.id} aria-label={`Who opened it: ${l.title}`} onClick={() => setOpen(open === l.id ? "" : l.id)}>
                  Who opened it
                </button></May>
                {l.state === "open" && (
                  <May call="end-guest-link"><button type="button" className={quiet} aria-label={`End it: ${l.title}`} onClick={() => end.mutate(l.id)}>
                    End it
                  </button></May>
                )}
              </span>
            </div>
            {open === l.id && <Openings link={l.id} />}
          </li>
        ))}
      </ul>
      <MakeGuestLink what="report" titled="Report for …" />
    </section>
  );
}

function Openings({ link }: { link: string }) {
  const list = useQuery({ queryKey: ["openings", link], queryFn: () => get<GuestOpening[]>(`/guest-links/${link}/openings`) });
  if (!list.data) return null;
  if (list.data.length === 0) return <p className="text-sm text-soft">Nobody came by this link yet.</p>;
  return (
    <ul className="figures pt-1 text-sm text-soft">
      {list.data.map((o) => (
        <li key={o.at + o.address}>
          {when(o.at)} from {o.address}: {o.outcome}
        </li>
      ))}
    </ul>
  );
}

/** MakeGuestLink makes a link, and shows it this once. */
export function MakeGuestLink(of: Parameters<typeof Making>[0]) {
  return <May call="add-guest-link"><Making {...of} /></May>;
}

function Making({ what, subject, titled, need, seats }: { what: GuestLinkSpec["what"]; subject?: string; titled: string; need?: string; seats?: number }) {
  const client = useQueryClient();
  const [title, setTitle] = useState("");
  const [notes, setNotes] = useState("");
  const [until, setUntil] = useState("");
  const [phrase, setPhrase] = useState("");
  const [tags, setTags] = useState("");
  const [last, setLast] = useState("24h");
  const [frozen, setFrozen] = useState(false);
  const measures = what === "readiness";
  const lasting = what !== "board" && !measures;
  const add = useMutation({
    mutationFn: () =>
      post<GuestLink, "/api/v1/guest-links">("/api/v1/guest-links", {
        what, title, ends_at: new Date(until).toISOString(), frozen, ...(lasting ? { last } : {}), ...(need ? { need, seats } : {}),
        ...(subject ? { subject_id: subject } : {}), ...(notes.trim() ? { notes } : {}), ...(phrase ? { passphrase: phrase } : {}), ...(words(tags).length > 0 ? { tags: words(tags) } : {}),
      }),
    onSuccess: () => {
      setTitle("");
      setPhrase("");
      void client.invalidateQueries({ queryKey: ["guest-links"] });
    },
  });
  return (
    <details className="pt-2">
      <summary className={quiet}>Make a guest link to {what === "report" ? "a report" : measures ? "measure by" : "this " + what}</summary>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field wide label="Title of the page" value={title} onChange={setTitle} hint={titled} />
        <Field wide label="Notes above all else" value={notes} onChange={setNotes} />
        <Moment label="Until" value={until} onChange={setUntil} />
        {lasting && <Choice above needed label="Shows the last" value={last} values={["24h", "72h", "168h", "720h"]} onChange={setLast} />}
        {what === "report" && <Field label="Tags of watches" value={tags} onChange={setTags} hint="all" />}
        <Field label="Passphrase" value={phrase} onChange={setPhrase} hint="none" />
        {!measures && <Tick label="Frozen: it goes on showing what is so now" on={frozen} set={setFrozen} />}
        <button type="submit" className={button} disabled={!title.trim() || !until || add.isPending}>
          Make the link
        </button>
      </form>
      {add.error && <p role="alert" className="border-l-2 border-plum pl-3">{add.error.message}</p>}
      {add.data?.path && (
        <p role="status" className="border-l-2 border-ochre pl-3">
          <a className="break-all underline underline-offset-4" href={add.data.path}>{location.origin + add.data.path}</a>
          <span className="block text-sm text-soft">It is shown this once: copy it now.</span>
        </p>
      )}
    </details>
  );
}
