/** Field is a labelled input of a form; what is wrong with what stands in it is said below. */
export function Field({ label, value, onChange, wide, hint, title, wrong }: { label: string; value: string; onChange: (v: string) => void; wide?: boolean; hint?: string; title?: string; wrong?: string }) {
  return (
    <label className={"flex flex-col gap-1 text-sm text-soft " + (wide ? "grow basis-72" : "w-36")} title={title}>
      {label}
      <input
        type="text"
        value={value}
        onChange={(e) => onChange(e.target.value)}
        placeholder={hint}
        aria-invalid={wrong !== undefined}
        className="border-b border-line bg-transparent px-1 py-1 text-base text-ink placeholder:text-soft aria-invalid:border-plum"
      />
      {wrong && <span className="text-plum">{wrong}</span>}
    </label>
  );
}

/** Secret is a field for a passphrase. */
export function Secret({ label, value, onChange, fresh, hint }: { label: string; value: string; onChange: (v: string) => void; fresh?: boolean; hint?: string }) {
  return (
    <label className="flex grow basis-72 flex-col gap-1 text-sm text-soft">
      {label}
      <input type="password" required autoComplete={fresh ? "new-password" : "current-password"} value={value} onChange={(e) => onChange(e.target.value)} placeholder={hint}
        className="border-b border-line bg-transparent px-1 py-1 text-base text-ink placeholder:text-soft" />
    </label>
  );
}

/** button is how buttons of forms look. */
export const button = "cursor-pointer self-end border border-ink px-4 py-1.5 hover:bg-sheet disabled:cursor-default disabled:opacity-50";
