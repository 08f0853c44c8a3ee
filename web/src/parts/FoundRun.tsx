import { useQuery } from "@tanstack/react-query";
import { get, type Run } from "../api";
import { panelOf } from "../kinds";
import { Trouble } from "./Trouble";

/** FoundRun shows what a run found, as its kind draws it. */
export default function FoundRun({ id }: { id: string }) {
  const run = useQuery({ queryKey: ["run", id], queryFn: () => get<Run>("/runs/" + id) });
  if (run.error) return <Trouble error={run.error} retry={() => void run.refetch()} />;
  if (!run.data) return <p className="text-soft">One moment …</p>;
  const { Found } = panelOf(run.data.kind);
  return (
    <div className="mt-3 border-l-2 border-line pl-3">
      <Found run={run.data} />
    </div>
  );
}
