import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, type Objective } from "../api";
import { GuestLinks } from "../parts/GuestLinks";
import { Notifications } from "../parts/Notifications";
import { Owners, Sites } from "../parts/Places";
import { OwnObjectives } from "../parts/OwnObjectives";

/** Settings are who is told of what, who outside sees what, where sites are, who has which prefixes, and objectives. */
export function Settings() {
  const objectives = useQuery({ queryKey: ["objectives"], queryFn: () => get<Objective[]>("/objectives") });
  useEffect(() => {
    document.title = "Settings – Woodlark";
    if (location.hash) document.getElementById(location.hash.slice(1))?.scrollIntoView();
  }, []);
  return (
    <>
      <h1 className="pt-8 pb-4 text-2xl font-light md:text-3xl">Settings</h1>
      <Notifications />
      <GuestLinks />
      <Sites />
      <Owners />
      <section aria-labelledby="objectives" className="mt-10 border-t border-line pt-6">
        <h2 id="objectives" className="text-lg">
          Objectives
        </h2>
        <p className="text-soft">Limits for a purpose. Ready-made: {(objectives.data ?? []).filter((o) => o.ready_made).map((o) => o.name).join(", ")}.</p>
        <OwnObjectives all={objectives.data ?? []} added={() => undefined} />
      </section>
      <p className="mt-10 border-t border-line pt-6 text-sm text-soft">
        Woodlark is built with the work of others: <a className="underline underline-offset-4 hover:text-ink" href="/notices.txt">their licences</a>.
      </p>
    </>
  );
}
