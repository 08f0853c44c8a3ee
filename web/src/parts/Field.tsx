/** Part is what each kind of measurement is given. */
export type Part = { from: string; to: string; set: (values: Record<string, string>) => void };

export const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** Field is a labelled input of the form. */
export function Field({ label, value, onChange, wide, narrow, hint }: { label: string; value: string; onChange: (v: string) => void; wide?: boolean; narrow?: boolean; hint?: string }) {
  return (
    <label className={"flex flex-col gap-1 text-sm text-soft " + (wide ? "grow basis-72" : narrow ? "w-20" : "w-36")}>
      {label}
      <input type="text" value={value} onChange={(e) => onChange(e.target.value)} placeholder={hint} className="border-b border-line bg-transparent px-1 py-1 text-base text-ink placeholder:text-soft" />
    </label>
  );
}

/** button is how buttons of forms look. */
export const button = "cursor-pointer self-end border border-ink px-4 py-1.5 hover:bg-sheet disabled:cursor-default disabled:opacity-50";
