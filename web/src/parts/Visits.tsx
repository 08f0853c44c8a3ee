import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type Visit } from "../api";
import { exactly, when } from "../format";
import { Figures } from "../visit/Figures";
import { MakeGuestLink } from "./GuestLinks";

/** Visits are what browsers measured that came by a guest link, and how to send one for it. */
export function Visits({ need, seats }: { need: string; seats: number }) {
  const list = useQuery({ queryKey: ["visits"], queryFn: () => get<Visit[]>("/visits?limit=20"), refetchInterval: 10_000 });
  return (
    <section aria-labelledby="visits" className="pt-8">
      <h2 id="visits" className="text-lg">
        From a browser
      </h2>
      <p className="max-w-2xl text-soft">Whoever opens a link of this kind measures the way between that browser and this service, with nothing installed.</p>
      <MakeGuestLink what="readiness" need={need} seats={seats} titled={`Is this place fit for ${need.includes("\n") ? "that" : need || "calls"}?`} />
      {list.data?.length === 0 && <p className="pt-2 text-soft">Nobody measured from a browser yet.</p>}
      <ul className="pt-2">
        {(list.data ?? []).map((v) => (
          <One key={v.id} visit={v} />
        ))}
      </ul>
    </section>
  );
}

function One({ visit: v }: { visit: Visit }) {
  const [open, setOpen] = useState(false);
  const whole = useQuery({ queryKey: ["visits", v.id], queryFn: () => get<Visit>("/visits/" + v.id), enabled: open });
  return (
    <li className="border-t border-line py-2">
      <p className="figures">{v.outcome === "done" ? v.sentence : `${v.title}: the visitor went away before the end`}</p>
      {v.words && <p className="max-w-2xl">“{v.words}”</p>}
      <p className="flex flex-wrap gap-x-4 text-sm text-soft">
        <span title={exactly(v.started_at)}>
          {v.title}, {when(v.started_at)}, from {v.address}
        </span>
        <button type="button" className="cursor-pointer underline underline-offset-4 hover:text-ink" aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Fewer figures" : "Figures"}
        </button>
      </p>
      {open && whole.data?.found && <Figures found={whole.data.found} />}
    </li>
  );
}
