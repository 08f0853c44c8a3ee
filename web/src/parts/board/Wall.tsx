import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { get, type Board } from "../../api";
import { nextBoard } from "../../boardForm";

/** Wall fills the screen with a board, in letters that are read from afar, and turns to the next after a while. */
export function Wall({ board, turn, children }: { board: Board; turn: number; children: ReactNode }) {
  const navigate = useNavigate();
  const all = useQuery({ queryKey: ["boards"], queryFn: () => get<Board[]>("/boards"), refetchInterval: 60_000 });
  const [paused, setPaused] = useState(false);
  const ids = (all.data ?? []).filter((b) => (b.parts ?? []).length > 0 || b.id === board.id).map((b) => b.id);
  const turns = turn >= 5 && ids.length > 1;
  const to = (by: number) => void navigate(`/boards/${nextBoard(ids, board.id, by)}?wall${turn ? "&turn=" + turn : ""}`, { replace: true });
  const end = () => {
    if (document.fullscreenElement) void document.exitFullscreen().catch(() => undefined);
    void navigate("/boards/" + board.id, { replace: true });
  };
  const next = useRef(to); // the board turns on time, whatever is drawn anew meanwhile
  next.current = to;
  useEffect(() => {
    if (!turns || paused) return;
    const wait = setTimeout(() => next.current(1), turn * 1000);
    return () => clearTimeout(wait);
  }, [board.id, turns, turn, paused]);
  useEffect(() => {
    const keys = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || (e.target instanceof Element && e.target.closest("[data-trend]"))) return;
      if (e.key === "ArrowRight") to(1);
      if (e.key === "ArrowLeft") to(-1);
      if (e.key === " " && turns && !(e.target instanceof HTMLButtonElement)) {
        e.preventDefault();
        setPaused(!paused);
      }
      if (e.key === "Escape") end();
    };
    // Who leaves the full screen by the browser's own key leaves the wall.
    const left = () => !document.fullscreenElement && end();
    addEventListener("keydown", keys);
    document.addEventListener("fullscreenchange", left);
    return () => {
      removeEventListener("keydown", keys);
      document.removeEventListener("fullscreenchange", left);
    };
  });
  useEffect(() => {
    const html = document.documentElement;
    const was = html.style.fontSize;
    html.style.fontSize = "clamp(16px, 1.15vw, 40px)";
    return () => {
      html.style.fontSize = was;
    };
  }, []);
  return (
    <div className="fixed inset-0 z-50 overflow-auto bg-paper px-6 py-4" data-wall={board.name}>
      <div className="flex flex-wrap items-baseline gap-x-6 pb-3">
        <h1 className="text-2xl font-light">{board.name}</h1>
        <p className="ml-auto text-sm text-soft">
          {ids.length > 1 && `${ids.indexOf(board.id) + 1} of ${ids.length}; the arrow keys turn`}
          {turns && (paused ? "; it stays, Space goes on" : "; it turns by itself, Space holds it")}
        </p>
        <button type="button" className="cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink" onClick={end}>
          End
        </button>
      </div>
      {children}
    </div>
  );
}
