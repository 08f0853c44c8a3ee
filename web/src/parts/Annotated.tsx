import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type Annotation, type Path } from "../api";
import { exactly, when } from "../format";
import { Field, button } from "./Field";
import { Moment } from "./WatchEditor";
import { May } from "../may";

/** Annotated are the notes that people wrote of a path, and a field for another. */
export function Annotated({ path }: { path: Path }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [at, setAt] = useState("");
  const [until, setUntil] = useState("");
  const list = useQuery({ queryKey: ["path", path.id, "annotations"], queryFn: () => get<Annotation[]>(`/annotations?path_id=${path.id}&from_at=${encodeURIComponent(new Date(Date.now() - 90 * 86_400_000).toISOString())}`) });
  const changed = () => client.invalidateQueries({ queryKey: ["path", path.id] });
  const add = useMutation({
    mutationFn: () => post<Annotation, "/api/v1/annotations">("/api/v1/annotations", { path_id: path.id, text, at: (at ? new Date(at) : new Date()).toISOString(), ...(until ? { until_at: new Date(until).toISOString() } : {}) }),
    onSuccess: async () => {
      setText("");
      setAt("");
      setUntil("");
      await changed();
    },
  });
  const drop = useMutation({ mutationFn: (id: string) => remove("/api/v1/annotations/{id}", { id }), onSuccess: changed });
  const trouble = add.error ?? drop.error;
  return (
    <section aria-labelledby="notes">
      <h2 id="notes" className="text-lg">
        Notes
      </h2>
      {list.data?.length === 0 && <p className="text-soft">Nobody wrote anything of this path yet. A note stands on the plot and in reports.</p>}
      <ul>
        {(list.data ?? []).map((a) => (
          <li key={a.id} className="flex flex-wrap gap-x-4 border-t border-line py-1.5">
            <span className="basis-full">{a.text}</span>
            <span className="text-sm text-soft" title={exactly(a.at)}>
              {when(a.at)}
              {a.until_at && ` to ${when(a.until_at)}`}, {a.author}
              {!a.path_id && ", of all paths"}
            </span>
            <May call="remove-annotation"><button type="button" className="ml-auto cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink" aria-label={`Remove the note ${a.text}`} onClick={() => drop.mutate(a.id)}>
              Remove
            </button></May>
          </li>
        ))}
      </ul>
      <May call="add-annotation"><form className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field wide label="Note" value={text} onChange={setText} hint="what you know of it" />
        <Moment label="At (now when empty)" value={at} onChange={setAt} />
        <Moment label="Until, of a span" value={until} onChange={setUntil} />
        <button type="submit" className={button} disabled={!text.trim() || add.isPending}>
          Add the note
        </button>
      </form></May>
      {trouble && <p role="alert" className="mt-2 border-l-2 border-plum pl-3">{trouble.message}</p>}
    </section>
  );
}
