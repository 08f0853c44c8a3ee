import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, post, type Agent, type Kind, type Watch, type WatchChanges } from "../api";
import { panelOf } from "../kinds";
import { chips, cost, list, partOf, rhythm, specOf, toggled, type PartForm, type WatchForm } from "../watchForm";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { KindForm, Tick } from "./KindForm";

const whens = { always: "without a pause", repeat: "every so often", cron: "at times of a clock" };

/** later is a value some time after it stopped to change. */
function later<T>(value: T, ms: number): T {
  const [is, set] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => set(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return is;
}

/** WatchEditor makes a watch, or changes one, and says what it will cost while one writes. */
export function WatchEditor({ of, start, agents, kinds, targets, done }: { of: string; start: WatchForm; agents: Agent[]; kinds: Kind[]; targets: string[]; done: () => void }) {
  const [form, setForm] = useState(start);
  const set = (part: Partial<WatchForm>) => setForm({ ...form, ...part });
  const kind = kinds.find((k) => k.name === form.kind);
  const spec = specOf(form, kind, kinds);
  const complete = list(form.from).length > 0 && (list(form.to).length > 0 || form.kind === "") && form.name.trim() !== "";
  const now = JSON.stringify(spec);
  const body = later(now, 300);
  // The name of one that is changed may be another's, or a new one: what it costs is the same.
  const would = useQuery({
    queryKey: ["would", body],
    queryFn: () => post<WatchChanges, "/api/v1/watches/apply">("/api/v1/watches/apply", { watches: [JSON.parse(body)], show: true }),
    enabled: complete && body === now,
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 10_000,
  });
  const save = useMutation({ mutationFn: () => (of ? call<Watch>("PUT", "/watches/" + of, spec) : call<Watch>("POST", "/watches", spec)), onSuccess: done });
  const after = would.data?.changes?.[0]?.after;
  const words = chips(agents);
  const offered = [...agents.map((a) => a.name), ...words.filter((w) => w.includes(":")), ...targets.filter((t) => !agents.some((a) => a.name === t) && (!kind?.continuous || !t.includes("/")))].slice(0, 40);
  return (
    <section aria-labelledby="editor" className="mb-8 border-y border-line py-5">
      <h2 id="editor" className="text-lg">
        {of ? `Change ${start.name}` : "A new watch"}
      </h2>
      <form className="space-y-5 pt-3" onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
        <div className="flex flex-wrap items-end gap-x-6 gap-y-4">
          <Field wide label="Name" value={form.name} onChange={(name) => set({ name })} />
          <Choice above needed label="What" value={form.kind} values={kinds.map((k) => k.name)} onChange={(name) => set({ kind: name, how: {}, when: kinds.find((k) => k.name === name)?.continuous ? form.when : form.when === "always" ? "repeat" : form.when })} />
          <Field label="Tags" value={form.tags} onChange={(tags) => set({ tags })} />
        </div>
        <Words label="From, agents" value={form.from} offered={words} onChange={(from) => set({ from })} />
        <Words label="To, names or addresses" value={form.to} offered={offered} onChange={(to) => set({ to })} lines />
        <div className="flex flex-wrap items-end gap-x-6 gap-y-4">
          <Choice above needed label="When" value={whens[form.when]} values={Object.entries(whens).filter(([w]) => w !== "always" || kind?.continuous).map(([, says]) => says)}
            onChange={(v) => set({ when: (Object.keys(whens) as (keyof typeof whens)[]).find((w) => whens[w] === v) ?? "always" })} />
          {form.when === "repeat" && <Field label="Runs every" value={form.repeat} onChange={(repeat) => set({ repeat })} hint="5m" />}
          {form.when === "repeat" && <Tick label="At random, that far apart in the mean" on={form.poisson} set={(poisson) => set({ poisson })} />}
          {form.when === "cron" && <Field label="Cron expression" value={form.cron} onChange={(cron) => set({ cron })} title="minute, hour, day of the month, month, day of the week" />}
          <Field label="Hours allowed" value={form.hours} onChange={(hours) => set({ hours })} hint="all" title="such as mon-fri 08:00-18:00, sat 09:00-12:00" />
          {(form.when === "cron" || form.hours) && <Field label="Time zone" value={form.zone} onChange={(zone) => set({ zone })} hint="UTC" />}
          <Moment label="Begins" value={form.start} onChange={(start) => set({ start })} />
          <Moment label="Ends" value={form.end} onChange={(end) => set({ end })} />
          <Tick label="Agents among the targets measure back, too" on={form.back} set={(back) => set({ back })} />
          <Tick label="Paused" on={form.paused} set={(paused) => set({ paused })} />
        </div>
        {kind && (
          <div className="flex flex-wrap items-end gap-x-6 gap-y-4">
            <KindForm kind={kind} first={panelOf(kind.name).first} form={form.how} change={(name, value) => set({ how: { ...form.how, [name]: value } })} />
          </div>
        )}
        {form.also.map((p) => (
          <Part key={p.key} part={p} kinds={kinds} set={(q) => set({ also: form.also.map((x) => (x.key === p.key ? q : x)) })} remove={() => set({ also: form.also.filter((x) => x.key !== p.key) })} />
        ))}
        {kinds.length > 0 && (
          <button type="button" className={button} onClick={() => set({ also: [...form.also, partOf(kinds.findLast((k) => !k.two_ends && !k.one_target && k.name !== form.kind && !form.also.some((p) => p.kind === k.name)) ?? kinds[0]!, form.also)] })}>
            Measure something else there, too
          </button>
        )}
        <p aria-live="polite" className={would.error ? "border-l-2 border-plum pl-3" : "figures text-soft"}>
          {!complete ? "Name it, and say from where and to what." : would.error ? would.error.message : after ? `It will cost ${cost(after)}${after.says ? `; now ${after.says}` : ""}.` : "Counting what it costs …"}
        </p>
        {save.error && (
          <p role="alert" className="border-l-2 border-plum pl-3">
            {save.error.message}
          </p>
        )}
        <p className="flex gap-4">
          <button type="submit" className={button} disabled={!complete || save.isPending}>
            {of ? "Change it" : "Start it"}
          </button>
          <button type="button" className={button} onClick={done}>
            Leave it
          </button>
        </p>
      </form>
    </section>
  );
}

/** Part is the form of a measurement beside the first. */
function Part({ part, kinds, set, remove }: { part: PartForm; kinds: Kind[]; set: (p: PartForm) => void; remove: () => void }) {
  const kind = kinds.find((k) => k.name === part.kind);
  const timed = part.kept["cron"] != null;
  return (
    <fieldset className="border-l border-line pl-4">
      <legend className="sr-only">Also, number {part.key}</legend>
      <div className="flex flex-wrap items-end gap-x-6 gap-y-4">
        <Choice above needed label="Also" value={part.kind} values={kinds.map((k) => k.name)} onChange={(name) => set({ ...part, kind: name, how: {} })} />
        {timed ? <p className="pb-1">{rhythm(part.kept)}</p> : <Field label="Runs every" value={part.repeat} onChange={(repeat) => set({ ...part, repeat })} hint={kind?.continuous ? "without a pause" : "15m"} />}
        {kind && <KindForm kind={kind} first={panelOf(kind.name).first} form={part.how} change={(name, value) => set({ ...part, how: { ...part.how, [name]: value } })} />}
        <button type="button" className={button} onClick={remove}>
          Not this one
        </button>
      </div>
    </fieldset>
  );
}

/** Words are written, or picked from what is there. */
function Words({ label, value, offered, onChange, lines }: { label: string; value: string; offered: string[]; onChange: (v: string) => void; lines?: boolean }) {
  const has = list(value);
  return (
    <div className="space-y-2">
      <label className="flex flex-col gap-1 text-sm text-soft">
        {label}
        <textarea rows={lines ? Math.min(8, Math.max(2, has.length)) : 1} value={value} onChange={(e) => onChange(e.target.value)} className="border-b border-line bg-transparent px-1 py-1 text-base text-ink" />
      </label>
      <div className="flex flex-wrap gap-2">
        {offered.map((w) => (
          <button key={w} type="button" aria-pressed={has.includes(w)} onClick={() => onChange(lines ? list(toggled(value, w)).join("\n") : toggled(value, w))} className="cursor-pointer border border-line px-2 py-0.5 text-sm text-soft aria-pressed:border-ink aria-pressed:text-ink">
            {w}
          </button>
        ))}
      </div>
    </div>
  );
}

/** Moment is a field of a date and a time of day, in the zone of the reader. */
export function Moment({ label, value, onChange }: { label: string; value: string; onChange: (v: string) => void }) {
  return (
    <label className="flex flex-col gap-1 text-sm text-soft">
      {label}
      <input type="datetime-local" value={value} onChange={(e) => onChange(e.target.value)} className="border-b border-line bg-transparent px-1 py-1 text-base text-ink scheme-light-dark" />
    </label>
  );
}
