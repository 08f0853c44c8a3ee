import type { Finding } from "../api";

/** Findings are what is concluded, each with what to do next. */
export function Findings({ list }: { list: Finding[] | null | undefined }) {
  if (!list || list.length === 0) return null;
  return (
    <ul className="space-y-2 pb-3">
      {list.map((f) => (
        <li key={f.code + f.sentence} className="border-l-2 border-line pl-3">
          {f.sentence} <span className="text-sm text-soft">{f.advice}</span>
        </li>
      ))}
    </ul>
  );
}
