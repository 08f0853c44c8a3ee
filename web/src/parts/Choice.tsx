import { Label, Listbox, ListboxButton, ListboxOption, ListboxOptions, Field } from "@headlessui/react";

/** Choice picks one of a few values, or none of them; its label stands above it in forms, before it elsewhere. */
export function Choice({ label, value, values, onChange, needed, above, none = "all" }: { label: string; value: string; values: string[]; onChange: (v: string) => void; needed?: boolean; above?: boolean; none?: string }) {
  return (
    <Field className={"relative flex " + (above ? "flex-col gap-1" : "items-baseline gap-2")}>
      <Label className="text-sm text-soft">{label}</Label>
      <Listbox value={value} onChange={onChange}>
        <ListboxButton className={"min-w-20 cursor-pointer border-b border-line px-1 text-left text-ink hover:border-ink " + (above ? "py-1 text-base" : "pb-0.5 text-sm")}>
          {value || (needed ? "–" : none)}
          <span aria-hidden="true" className="ml-2 text-soft">
            ▾
          </span>
        </ListboxButton>
        <ListboxOptions anchor="bottom start" className="z-20 mt-1 max-h-72 border border-line bg-sheet py-1 text-sm text-ink shadow-sm">
          {[...(needed ? [] : [""]), ...values].map((v) => (
            <ListboxOption key={v} value={v} className="cursor-pointer px-3 py-1 data-focus:bg-ribbon data-selected:font-semibold">
              {v || none}
            </ListboxOption>
          ))}
        </ListboxOptions>
      </Listbox>
    </Field>
  );
}
