import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, get, post, put, type Board, type BoardShown, type PartShown } from "../api";
import { drafts, lacks, type Draft } from "../boardForm";
import { words } from "../kinds/values";
import { exactly } from "../format";
import { Choice } from "../parts/Choice";
import { Field, button } from "../parts/Field";
import { MakeGuestLink } from "../parts/GuestLinks";
import { Trouble } from "../parts/Trouble";
import { PartBody } from "../parts/board/PartBody";
import { place } from "../parts/board/place";
import { Wall } from "../parts/board/Wall";
import { May } from "../may";

const Arrange = lazy(async () => ({ default: (await import("../parts/board/Arrange")).Arrange }));

const quiet = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";
const every = 10_000;

/** OneBoard shows a board, here or on a wall, and lets it be arranged. */
export function OneBoard() {
  const id = useParams().id!;
  const [search] = useSearchParams();
  const board = useQuery({ queryKey: ["board", id], queryFn: () => get<Board>("/boards/" + encodeURIComponent(id)) });
  useEffect(() => {
    document.title = board.data ? `${board.data.name} – Woodlark` : "Woodlark";
  }, [board.data]);
  if (board.error && !board.data) return <Trouble error={board.error} retry={() => void board.refetch()} />;
  if (!board.data) return null;
  if (search.has("edit")) return <Edit key={board.data.id} board={board.data} />;
  const shown = <Shown board={board.data} />;
  if (search.has("wall"))
    return (
      <Wall board={board.data} turn={Number(search.get("turn")) || 0}>
        {shown}
      </Wall>
    );
  return (
    <>
      <Head board={board.data} />
      {shown}
      <section className="mt-8 border-t border-line pt-3">
        <MakeGuestLink what="board" subject={board.data.id} titled={board.data.name} />
      </section>
    </>
  );
}

const turns: Record<string, string> = { "20 s": "20", "1 min": "60", "5 min": "300" };

function Head({ board }: { board: Board }) {
  const navigate = useNavigate();
  const all = useQuery({ queryKey: ["boards"], queryFn: () => get<Board[]>("/boards") });
  const [turn, setTurn] = useState("");
  const wall = () => {
    // It is not always allowed; then it fills the window.
    void document.documentElement.requestFullscreen?.().catch(() => undefined);
    void navigate(`/boards/${board.id}?wall${turn ? "&turn=" + turns[turn] : ""}`);
  };
  const many = (all.data ?? []).length > 1;
  return (
    <>
      <nav aria-label="Way back" className="pt-5 text-sm">
        <Link to="/boards" className="text-soft underline-offset-4 hover:underline">
          ← All boards
        </Link>
      </nav>
      <div className="flex flex-wrap items-end gap-x-6 gap-y-2 pt-1 pb-4">
        <h1 className="mr-auto text-2xl font-light md:text-3xl">{board.name}</h1>
        <May call="change-board"><Link to={`/boards/${board.id}?edit`} className={quiet}>
          Arrange it
        </Link></May>
        {(["html", "pdf", "csv"] as const).map((f) => (
          <a key={f} className={quiet} href={`/api/v1/boards/${board.id}/file?format=${f}`} target="_blank" rel="noreferrer">
            {f.toUpperCase()}
          </a>
        ))}
        {many && <Choice label="Turn to the next every" none="never" value={turn} values={Object.keys(turns)} onChange={setTurn} />}
        <button type="button" className={quiet} onClick={wall}>
          Full screen
        </button>
      </div>
    </>
  );
}

function Shown({ board }: { board: Board }) {
  const shown = useQuery({ queryKey: ["board", board.id, "shown", board.revision], queryFn: () => get<BoardShown>(`/boards/${board.id}/shown`), refetchInterval: every, placeholderData: keepPreviousData });
  if ((board.parts ?? []).length === 0)
    return (
      <p className="text-soft">
        Nothing is on this board yet.{" "}
        <Link to={`/boards/${board.id}?edit`} className="text-ink underline underline-offset-4">
          Add parts to it
        </Link>
        .
      </p>
    );
  return (
    <>
      {shown.error && <Trouble error={shown.error} retry={() => void shown.refetch()} />}
      <ul className={place.grid} data-shown={shown.data?.at}>
        {keyed(shown.data?.parts ?? []).map(([key, p]) => (
          <li key={key} style={place.of(p)} className={place.part + " flex flex-col border-t border-line pt-2"} data-part={p.kind}>
            <h2 className="pb-1 text-sm font-semibold">{p.heading}</h2>
            <div className="relative min-h-0 grow overflow-auto">
              <PartBody part={p} title={p.heading} />
            </div>
          </li>
        ))}
      </ul>
      {shown.data && <p className="pt-3 text-sm text-soft">As of {exactly(shown.data.at)}; it follows by itself.</p>}
    </>
  );
}

/** keyed gives parts keys by what they are; of those that are alike by how many are before them. */
function keyed(parts: PartShown[]): [string, PartShown][] {
  const seen = new Map<string, number>();
  return parts.map((p) => {
    const what = [p.kind, p.title, p.measure, p.from, p.to, p.sites, p.agents, p.targets, p.tags, p.labels].join("|");
    const before = seen.get(what) ?? 0;
    seen.set(what, before + 1);
    return [`${what}|${before}`, p];
  });
}

function Edit({ board }: { board: Board }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const [name, setName] = useState(board.name);
  const [sharing, setSharing] = useState((board.shared_with ?? []).join(" "));
  const [list, setList] = useState<Draft[]>(() => drafts(board.parts ?? []));
  const [base] = useState(board.revision); // which this is made from
  const ready = list.filter((d) => !lacks(d.part));
  const asked = useSettled(JSON.stringify(ready.map((d) => [d.key, { ...d.part, title: undefined }])), 400);
  const preview = useQuery({
    queryKey: ["board", "preview", asked],
    queryFn: async () => {
      const of = JSON.parse(asked) as [string, Draft["part"]][];
      const shown = await post<BoardShown, "/api/v1/boards/shown">("/api/v1/boards/shown", { parts: of.map(([, p]) => p) });
      return new Map(of.map(([key], at) => [key, shown.parts![at]!]));
    },
    placeholderData: keepPreviousData,
    refetchInterval: every,
    retry: false,
  });
  const save = useMutation({
    mutationFn: () => put<Board, "/api/v1/boards/{id}">("/api/v1/boards/{id}", { id: board.id }, { name, parts: list.map((d) => d.part), revision: base, ...(words(sharing).length > 0 ? { shared_with: words(sharing) } : {}) }),
    onSuccess: (b) => {
      client.setQueryData(["board", board.id], b);
      void client.invalidateQueries({ queryKey: ["boards"] });
      void navigate("/boards/" + board.id);
    },
  });
  const drop = useMutation({
    mutationFn: () => call<void>("DELETE", "/boards/" + board.id),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["boards"] });
      void navigate("/boards");
    },
  });
  const unready = list.length - ready.length;
  const trouble = save.error ?? drop.error ?? preview.error;
  return (
    <>
      <form className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-8 pb-4" onSubmit={(e) => { e.preventDefault(); save.mutate(); }}>
        <h1 className="sr-only">Arrange {board.name}</h1>
        <Field label="Name" wide value={name} onChange={setName} />
        <Field label="Shared with, by name" wide value={sharing} onChange={setSharing} hint="all" title="Names of the people who see it, beside administrators" />
        <button type="submit" className={button} disabled={!name.trim() || unready > 0 || save.isPending} title={unready > 0 ? "A part lacks something" : undefined}>
          Keep it
        </button>
        <Link to={"/boards/" + board.id} className={quiet + " pb-2"}>
          Leave it as it was
        </Link>
        <button type="button" className={quiet + " pb-2"} onClick={() => confirm(`Remove the board ${board.name}?`) && drop.mutate()}>
          Remove the board
        </button>
      </form>
      {trouble && (
        <p role="alert" className="mb-3 border-l-2 border-plum pl-3">
          {trouble.message}
        </p>
      )}
      <Suspense fallback={null}>
        <Arrange list={list} shown={preview.data ?? new Map()} onChange={setList} />
      </Suspense>
    </>
  );
}

/** useSettled is a value once it has not changed for a while. */
function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const wait = setTimeout(() => setSettled(value), after);
    return () => clearTimeout(wait);
  }, [value, after]);
  return settled;
}
