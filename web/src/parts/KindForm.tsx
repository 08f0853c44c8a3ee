import { Checkbox, Disclosure, DisclosureButton, DisclosurePanel, Field as Labelled, Label } from "@headlessui/react";
import type { Kind, KindField } from "../api";
import { spoken, wrong } from "../kinds/values";
import { Choice } from "./Choice";
import { Field } from "./Field";

/** KindForm draws itself from the fields of a kind: those that are asked for first, and the others behind "More". */
export function KindForm({ kind, first, form, change }: { kind: Kind; first: string[]; form: Record<string, string>; change: (name: string, value: string) => void }) {
  const fields = (kind.fields ?? []).filter((f) => !f.of_hand);
  const shown = first.map((name) => fields.find((f) => f.name === name)).filter((f): f is KindField => f !== undefined);
  const rest = fields.filter((f) => !first.includes(f.name));
  const one = (f: KindField) => <OneField key={f.name} field={f} value={form[f.name] ?? f.usual} onChange={(v) => change(f.name, v)} />;
  return (
    <>
      {shown.map(one)}
      {rest.length > 0 && (
        <Disclosure>
          <DisclosureButton className="group cursor-pointer self-end pb-1.5 text-sm text-soft underline-offset-4 hover:underline">
            <span className="group-data-open:hidden">More …</span>
            <span className="hidden group-data-open:inline">Less</span>
          </DisclosureButton>
          <DisclosurePanel className="order-last flex basis-full flex-wrap items-end gap-x-6 gap-y-4 border-t border-line pt-3">{rest.map(one)}</DisclosurePanel>
        </Disclosure>
      )}
    </>
  );
}

/** OneField draws the field of a schema by its type. */
export function OneField({ field, value, onChange }: { field: KindField; value: string; onChange: (v: string) => void }) {
  const label = spoken(field);
  if (field.type === "bool") return <Tick label={label} title={field.help} on={value === "true"} set={(on) => onChange(String(on))} />;
  const values = field.enum ?? (field.type === "family" ? ["4", "6", "both"] : undefined);
  if (values) return <Choice above needed={field.usual !== ""} none="as it is" label={label} value={value} values={values} onChange={onChange} />;
  if (field.type === "object")
    return (
      <label className="flex basis-full flex-col gap-1 text-sm text-soft" title={field.help}>
        {label}, as YAML
        <textarea value={value} onChange={(e) => onChange(e.target.value)} rows={4} className="border border-line bg-transparent p-2 font-mono text-sm text-ink" />
      </label>
    );
  if (field.type === "need") return <NeedField label={label} title={field.help} value={value} onChange={onChange} />;
  return <Field label={label} value={value} onChange={onChange} title={field.help} wrong={wrong(field, value)} />;
}

/** readyMade are the needs that are known by their names. */
export const readyMade = ["calls", "meetings", "remote-desk", "file-work", "kiosk"];
const ownNeed = "one of one’s own";

/** NeedField is what a service asks: a name, or the text of a file. */
export function NeedField({ label, title, value, onChange }: { label: string; title?: string; value: string; onChange: (v: string) => void }) {
  const own = value !== "" && !readyMade.includes(value);
  return (
    <>
      <Choice above none="" needed={false} label={label} value={own ? ownNeed : value} values={[...readyMade, ownNeed]} onChange={(v) => onChange(v === ownNeed ? "need: own\n" : v)} />
      {own && (
        <label className="flex basis-full flex-col gap-1 text-sm text-soft" title={title}>
          What it asks, as YAML
          <textarea value={value} onChange={(e) => onChange(e.target.value)} rows={8} className="border border-line bg-transparent p-2 font-mono text-sm text-ink" />
        </label>
      )}
    </>
  );
}

/** Tick is something to be said or left unsaid. */
export function Tick({ label, on, set, title }: { label: string; on: boolean; set: (on: boolean) => void; title?: string }) {
  return (
    <Labelled className="flex items-center gap-2 self-end pb-2 text-sm text-soft" title={title}>
      <Checkbox checked={on} onChange={set} className="group size-4 cursor-pointer border border-ink">
        <span aria-hidden="true" className="hidden h-full w-full bg-ink group-data-checked:block" />
      </Checkbox>
      <Label className="cursor-pointer">{label}</Label>
    </Labelled>
  );
}
