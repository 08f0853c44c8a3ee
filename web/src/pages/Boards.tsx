import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, post, type Board } from "../api";
import { kinds } from "../boardForm";
import { when } from "../format";
import { Field, button } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { May } from "../may";

const names = Object.fromEntries(kinds);

/** Boards lists pages of one's own, and makes new ones. */
export function Boards() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const list = useQuery({ queryKey: ["boards"], queryFn: () => get<Board[]>("/boards") });
  const [name, setName] = useState("");
  useEffect(() => {
    document.title = "Boards – Woodlark";
  }, []);
  const add = useMutation({
    mutationFn: () => post<Board, "/api/v1/boards">("/api/v1/boards", { name, parts: [] }),
    onSuccess: (b) => {
      void client.invalidateQueries({ queryKey: ["boards"] });
      void navigate(`/boards/${b.id}?edit`);
    },
  });
  const boards = list.data ?? [];
  return (
    <>
      <h1 className="pt-8 pb-2 text-2xl font-light md:text-3xl">Boards</h1>
      <p className="max-w-3xl pb-4 text-soft">A board is a page of your own: maps, plots, tables and texts of the paths that you choose, to be looked at here, on a wall, or by a guest.</p>
      {list.error && <Trouble error={list.error} retry={() => void list.refetch()} />}
      {list.data && boards.length === 0 && <p>There is no board. Give the first one a name, and add what it is to show.</p>}
      <ul className="border-t border-line">
        {boards.map((b) => (
          <li key={b.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-b border-line py-2.5">
            <Link to={"/boards/" + b.id} className="min-w-48 text-lg underline-offset-4 hover:underline">
              {b.name}
            </Link>
            <span className="text-soft">{[...new Set((b.parts ?? []).map((p) => names[p.kind]!.toLowerCase()))].join(", ") || "nothing on it yet"}</span>
            <span className="ml-auto text-sm text-soft">
              {(b.shared_with ?? []).length > 0 && `shared with ${b.shared_with!.join(", ")} · `}
              by {b.changed_by}, {when(b.changed_at)}
            </span>
          </li>
        ))}
      </ul>
      <May call="add-board"><form className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-6" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
        <Field label="Name of a new board" wide value={name} onChange={setName} hint="Bridge" />
        <button type="submit" className={button} disabled={!name.trim() || add.isPending}>
          Make it
        </button>
      </form></May>
      {add.error && (
        <p role="alert" className="mt-2 border-l-2 border-plum pl-3">
          {add.error.message}
        </p>
      )}
    </>
  );
}
