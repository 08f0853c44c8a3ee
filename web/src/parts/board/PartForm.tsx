import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type BoardPart, type RowList } from "../../api";
import { become, kinds, lasts, listOf, listText, measures, takes } from "../../boardForm";
import { Choice } from "../Choice";
import { Field } from "../Field";

const names = Object.fromEntries(kinds);

/** PartForm says what a part shows. */
export function PartForm({ part, onChange }: { part: BoardPart; onChange: (p: BoardPart) => void }) {
  const needs = takes[part.kind];
  const set = (some: Partial<BoardPart>) => onChange({ ...part, ...some });
  return (
    <div className="flex flex-wrap items-end gap-x-6 gap-y-3 border-t border-line py-3">
      <Choice above needed label="Shows" value={names[part.kind]!} values={kinds.map(([, name]) => name)} onChange={(name) => onChange(become(part, kinds.find(([, n]) => n === name)![0]))} />
      <Field label="Title" value={part.title ?? ""} onChange={(title) => set({ title: title || undefined })} hint="usual" />
      {needs.includes("path") && <PathChoice part={part} onChange={onChange} />}
      {needs.includes("measure") && (
        <Choice above needed label="Measure" value={spoken[part.measure ?? "rtt"]} values={measures[part.kind]!.map((m) => spoken[m])} onChange={(m) => set({ measure: measures[part.kind]!.find((x) => spoken[x] === m) })} />
      )}
      {needs.includes("last") && (
        <Choice above needed label="How far back" value={Object.keys(lasts).find((l) => lasts[l] === part.last) ?? part.last ?? ""} values={Object.keys(lasts)} onChange={(l) => set({ last: lasts[l] })} />
      )}
      {needs.includes("most") && <Choice above needed label="Lines" value={String(part.most ?? 10)} values={["5", "8", "10", "15", "20", "40", "100"]} onChange={(n) => set({ most: Number(n) })} />}
      {needs.includes("of") && (
        <>
          <ListField label="Sites" list={part.sites} onChange={(sites) => set({ sites })} />
          <ListField label="Agents" list={part.agents} onChange={(agents) => set({ agents })} />
          <ListField label="Targets" list={part.targets} onChange={(targets) => set({ targets })} />
          <ListField label="Tags" list={part.tags} onChange={(tags) => set({ tags })} />
          <ListField label="Labels of agents" list={part.labels} onChange={(labels) => set({ labels })} />
        </>
      )}
      {needs.includes("text") && (
        <label className="flex grow basis-72 flex-col gap-1 text-sm text-soft">
          Text
          <textarea rows={4} value={part.text ?? ""} onChange={(e) => set({ text: e.target.value })} className="border border-line bg-transparent px-2 py-1 text-base text-ink" />
        </label>
      )}
    </div>
  );
}

const spoken = { rtt: "RTT", jitter: "jitter", loss: "loss", mos: "MOS" };

/** ListField is a list of names with commas between; what is being typed stays as it is typed. */
function ListField({ label, list, onChange }: { label: string; list: string[] | null | undefined; onChange: (l: string[] | undefined) => void }) {
  const [text, setText] = useState(listText(list));
  return (
    <Field
      label={label}
      value={text}
      hint="all"
      title="Names with commas between"
      onChange={(t) => {
        setText(t);
        onChange(listOf(t));
      }}
    />
  );
}

function PathChoice({ part, onChange }: { part: BoardPart; onChange: (p: BoardPart) => void }) {
  const every = useQuery({ queryKey: ["every path"], queryFn: () => get<RowList>("/paths/rows?limit=20000"), staleTime: 60_000 });
  const text = (p: { from?: string; to?: string; family?: number; via?: string }) => `${p.from} → ${p.to}, IPv${p.family}${p.via && p.via !== "icmp" ? ` by ${p.via}` : ""}`;
  const all = (every.data?.rows ?? []).slice().sort((a, b) => text(a).localeCompare(text(b)));
  const now = all.find((p) => p.from === part.from && p.to === part.to && (!part.family || p.family === part.family) && (!part.via || p.via === part.via));
  return (
    <Choice above needed label="Path" value={now ? text(now) : part.from ? `${part.from} → ${part.to}` : ""} values={all.map(text)}
      onChange={(t) => {
        const p = all.find((x) => text(x) === t);
        if (p) onChange({ ...part, from: p.from, to: p.to, family: p.family, via: p.via });
      }}
    />
  );
}
