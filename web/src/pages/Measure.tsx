import { useQuery } from "@tanstack/react-query";
import { Radio, RadioGroup } from "@headlessui/react";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { get, type Agent, type Kind } from "../api";
import { panelOf } from "../kinds";
import { Choice } from "../parts/Choice";
import { Measuring } from "../parts/Measuring";
import { Trouble } from "../parts/Trouble";

/** Measure asks for a measurement at an agent, of whatever kind there is, and shows what comes as it comes. */
export function Measure() {
  const [search, setSearch] = useSearchParams();
  const agents = useQuery({ queryKey: ["agents"], queryFn: () => get<Agent[]>("/agents") });
  const kinds = useQuery({ queryKey: ["kinds"], queryFn: () => get<Kind[]>("/kinds"), staleTime: Infinity });
  const kind = kinds.data?.find((k) => k.name === search.get("kind")) ?? kinds.data?.[0];
  const names = (agents.data ?? []).map((a) => a.name);
  const from = search.get("from") || names[0] || "";
  const set = (values: Record<string, string>) =>
    setSearch(
      (old) => {
        for (const [k, v] of Object.entries(values)) v ? old.set(k, v) : old.delete(k);
        return old;
      },
      { replace: true },
    );
  useEffect(() => {
    document.title = "Measure – Woodlark";
  }, []);
  const trouble = [agents, kinds].find((q) => q.error && !q.data);
  return (
    <>
      <h1 className="pt-8 pb-6 text-2xl font-light md:text-3xl">Measure</h1>
      <div className="flex flex-wrap items-baseline gap-x-8 gap-y-3 border-b border-line pb-3">
        <RadioGroup value={kind?.name ?? ""} onChange={(k) => setSearch({ kind: k, from })} aria-label="Kind of measurement" className="flex flex-wrap gap-x-2">
          {(kinds.data ?? []).map((k) => (
            <Radio key={k.name} value={k.name} title={k.summary} className="cursor-pointer px-2 py-1 text-soft data-checked:text-ink data-checked:underline data-checked:decoration-ochre data-checked:decoration-2 data-checked:underline-offset-8">
              {panelOf(k.name).label}
            </Radio>
          ))}
        </RadioGroup>
        <Choice needed label="From" value={from} values={names} onChange={(v) => set({ from: v })} />
      </div>
      {trouble?.error && <Trouble error={trouble.error} retry={() => void trouble.refetch()} />}
      {kind && from && <Measuring key={kind.name + from} kind={kind} from={from} to={search.get("to") ?? ""} ids={search.get("runs") ?? ""} agents={agents.data ?? []} set={set} />}
    </>
  );
}
