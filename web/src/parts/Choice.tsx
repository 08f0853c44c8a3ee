import { Field, Label, Select } from "@headlessui/react";

/** Choice picks one of a few values, or none of them; its label stands above it in forms, before it elsewhere. */
export function Choice({ label, value, values, onChange, needed, above, none = "all" }: { label: string; value: string; values: string[]; onChange: (v: string) => void; needed?: boolean; above?: boolean; none?: string }) {
  return (
    <Field className={"flex max-w-full min-w-0 " + (above ? "flex-col gap-1" : "items-baseline gap-2")}>
      <Label className="text-sm text-soft">{label}</Label>
      <span className="relative min-w-0">
        <Select value={value} onChange={(e) => onChange(e.target.value)} className={"w-full min-w-20 cursor-pointer appearance-none border-b border-line bg-transparent pr-6 pl-1 text-ink hover:border-ink " + (above ? "py-1 text-base" : "pb-0.5 text-sm")}>
          {needed && !values.includes(value) && <option value={value}>–</option>}
          {[...(needed ? [] : [""]), ...values].map((v) => (
            <option key={v} value={v} className="bg-sheet text-ink">
              {v || none}
            </option>
          ))}
        </Select>
        <span aria-hidden="true" className="pointer-events-none absolute right-1 bottom-1 text-sm text-soft">
          ▾
        </span>
      </span>
    </Field>
  );
}
