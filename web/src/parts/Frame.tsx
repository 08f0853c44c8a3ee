import { Suspense } from "react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, NavLink, Outlet } from "react-router";
import { call, get, type Me, type Status } from "../api";
import { useLive } from "../live";
import { useTheme } from "../theme";
import { Troubles } from "./Troubles";

const pages: [string, string][] = [
  ["/", "Paths"],
  ["/watches", "Watches"],
  ["/measure", "Measure"],
  ["/sweeps", "Sweeps"],
  ["/acceptance", "Acceptance"],
  ["/readiness", "Readiness"],
  ["/agents", "Agents"],
  ["/reports", "Reports"],
  ["/boards", "Boards"],
  ["/settings", "Settings"],
  ["/people", "People"],
];

/** Frame is what stands around every page. */
export function Frame() {
  const alive = useLive();
  const [theme, toggle] = useTheme();
  const client = useQueryClient();
  const status = useQuery({ queryKey: ["status"], queryFn: () => get<Status>("/status"), refetchInterval: 30_000 });
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Me>("/session"), staleTime: 60_000 });
  const signOut = async () => {
    await call("DELETE", "/session");
    client.clear();
    location.assign("/sign-in");
  };
  return (
    <div className="mx-auto max-w-[1400px] px-4 pb-16 md:px-8">
      <a href="#main" className="sr-only focus:not-sr-only">
        Skip to the page
      </a>
      <header className="flex flex-wrap items-center gap-x-6 gap-y-2 border-b border-line py-3">
        <Link to="/" className="flex items-center gap-2 text-lg font-semibold tracking-tight">
          <img src="/mark.svg" alt="" className="size-6 dark:brightness-150" />
          Woodlark
        </Link>
        <nav aria-label="Pages" className="flex flex-wrap gap-x-5 gap-y-1 text-sm">
          {pages.map(([to, name]) => (
            <NavLink key={to} to={to} end={to === "/"} className="underline-offset-8 hover:underline aria-[current=page]:underline aria-[current=page]:decoration-ochre aria-[current=page]:decoration-2">
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-4 text-sm">
          {!alive && <span className="text-plum">not live: connecting again</span>}
          {me.data && (
            <Link to="/people" className="text-soft underline-offset-4 hover:text-ink hover:underline" title={`Signed in as ${me.data.role}`}>
              {me.data.name}
            </Link>
          )}
          <button type="button" onClick={toggle} className="cursor-pointer text-soft underline-offset-4 hover:text-ink hover:underline">
            {theme === "dark" ? "Light" : "Dark"}
          </button>
          <button type="button" onClick={() => void signOut()} className="cursor-pointer text-soft underline-offset-4 hover:text-ink hover:underline">
            Sign out
          </button>
        </div>
      </header>
      <Troubles status={status.data} />
      <main id="main">
        <Suspense fallback={null}><Outlet /></Suspense>
      </main>
    </div>
  );
}
