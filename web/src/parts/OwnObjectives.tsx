import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { post, remove, type Objective } from "../api";
import { limits, limitsOf } from "../objectiveForm";
import { Field, button } from "./Field";
import { May } from "../may";

/** OwnObjectives adds objectives of one's own, and removes them. */
export function OwnObjectives({ all, added }: { all: Objective[]; added: (name: string) => void }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [source, setSource] = useState("");
  const [form, setForm] = useState<Record<string, string>>({});
  const said = limitsOf(form);
  const changed = () => client.invalidateQueries({ queryKey: ["objectives"] });
  const add = useMutation({
    mutationFn: () => post<Objective, "/api/v1/objectives">("/api/v1/objectives", { name, limits: said.limits, ...(source.trim() ? { source } : {}) }),
    onSuccess: async (o) => {
      await changed();
      setName("");
      setForm({});
      added(o.name);
    },
  });
  const drop = useMutation({ mutationFn: (objective: string) => remove("/api/v1/objectives/{objective}", { objective }), onSuccess: changed });
  const own = all.filter((o) => !o.ready_made);
  const trouble = add.error ?? drop.error;
  return (
    <details className="pt-2">
      <summary className="cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink">Objectives of your own</summary>
      <ul>
        {own.map((o) => (
          <li key={o.name} className="flex flex-wrap gap-x-6 border-t border-line py-1.5">
            <span>{o.name}</span>
            <span className="text-soft">{o.source}</span>
            <May call="remove-objective"><button type="button" className="ml-auto cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink" aria-label={`Remove objective ${o.name}`} onClick={() => drop.mutate(o.name)}>
              Remove
            </button></May>
          </li>
        ))}
      </ul>
      <May call="add-objective"><form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field label="Its name" value={name} onChange={setName} hint="counter-voice" />
        <Field label="Where it comes from" value={source} onChange={setSource} hint="contract of 2026" />
        {limits.map((l) => (
          <Field key={l.measure} label={l.label} value={form[l.measure] ?? ""} onChange={(v) => setForm({ ...form, [l.measure]: v })} wrong={said.wrong === l.label ? "cannot be read" : undefined} />
        ))}
        <button type="submit" className={button} disabled={!name.trim() || said.wrong !== undefined || Object.keys(said.limits).length === 0 || add.isPending}>
          Add it
        </button>
      </form></May>
      {trouble && (
        <p role="alert" className="border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
    </details>
  );
}
