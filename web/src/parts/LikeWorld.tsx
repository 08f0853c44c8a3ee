import { useMutation } from "@tanstack/react-query";
import { get, type LikeWorld as Made, type Path } from "../api";
import { save, type Range } from "../format";

const day = 24 * 3_600_000;

/** LikeWorld makes a simulated network of what a path was like over the time above, and has the browser keep its file. */
export function LikeWorld({ path, range }: { path: Path; range: Range }) {
  const make = useMutation({
    mutationFn: () => get<Made>(`/paths/${path.id}/likeness?` + new URLSearchParams({ from: new Date(range.from).toISOString(), to: new Date(range.to).toISOString() }).toString()),
    onSuccess: (made) => save(made.world, `${path.from}-${path.to}.yaml`.replace(/[^\w.-]/g, "-"), "application/yaml"),
  });
  const long = range.to - range.from > day;
  return (
    <p className="pt-3">
      <button type="button" className="cursor-pointer underline underline-offset-4 disabled:cursor-default disabled:text-soft disabled:no-underline" disabled={long || make.isPending} onClick={() => make.mutate()}>
        Download a simulated network of the time above
      </button>
      <span className="block text-sm text-soft">
        {long ? "Of 24 hours at most: choose a shorter time." : "It delays, varies and loses as the path did then: for ‘woodlark lab’, or any command’s -world."}
      </span>
      {make.data && (
        <span role="status" className="block text-sm">
          {make.data.likeness.notes.length > 0 ? `Kept. Not measured then, and said in the file: ${make.data.likeness.notes.join("; ")}.` : "Kept."}
        </span>
      )}
      {make.error && (
        <span role="alert" className="block border-l-2 border-plum pl-3">
          {make.error.message}
        </span>
      )}
    </p>
  );
}
