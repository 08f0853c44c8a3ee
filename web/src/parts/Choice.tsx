import { Label, Listbox, ListboxButton, ListboxOption, ListboxOptions, Field } from "@headlessui/react";

/** Choice picks one of a few values, or all of them. */
export function Choice({ label, value, values, onChange, needed }: { label: string; value: string; values: string[]; onChange: (v: string) => void; needed?: boolean }) {
  return (
    <Field className="relative flex items-baseline gap-2">
      <Label className="text-sm text-soft">{label}</Label>
      <Listbox value={value} onChange={onChange}>
        <ListboxButton className="min-w-20 cursor-pointer border-b border-line px-1 pb-0.5 text-left text-sm hover:border-ink">
          {value || (needed ? "–" : "all")}
          <span aria-hidden="true" className="ml-2 text-soft">
            ▾
          </span>
        </ListboxButton>
        <ListboxOptions anchor="bottom start" className="z-20 mt-1 max-h-72 border border-line bg-sheet py-1 text-sm text-ink shadow-sm">
          {[...(needed ? [] : [""]), ...values].map((v) => (
            <ListboxOption key={v} value={v} className="cursor-pointer px-3 py-1 data-focus:bg-ribbon data-selected:font-semibold">
              {v || "all"}
            </ListboxOption>
          ))}
        </ListboxOptions>
      </Listbox>
    </Field>
  );
}
