import { Suspense, useMemo } from "react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { call, get, type Me, type Status } from "../api";
import { useLive } from "../live";
import { useTheme } from "../theme";
import { Troubles } from "./Troubles";
import { Allowed, May, type Call } from "../may";

/** pages are where they are, what they are called, and the call without which there is nothing to them. */
const pages: [string, string, Call][] = [
  ["/", "Paths", "list-paths"],
  ["/watches", "Watches", "list-watches"],
  ["/measure", "Measure", "start-runs"],
  ["/sweeps", "Sweeps", "list-sweeps"],
  ["/acceptance", "Acceptance", "list-plans"],
  ["/readiness", "Readiness", "list-runs"],
  ["/agents", "Agents", "list-agents"],
  ["/reports", "Reports", "report-period"],
  ["/boards", "Boards", "list-boards"],
  ["/settings", "Settings", "list-rules"],
  ["/people", "People", "get-session"],
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
  const allowed = useMemo(() => (me.data ? new Set(me.data.may) : undefined), [me.data]);
  const may = (c: Call) => allowed === undefined || allowed.has(c);
  const { pathname } = useLocation();
  const page = pages.find(([to]) => (to === "/" ? pathname === "/" : pathname.startsWith(to)));
  if (me.isPending) return null;
  return (
    <Allowed value={allowed}>
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
          {pages.filter(([, , c]) => may(c)).map(([to, name]) => (
            <NavLink key={to} to={to} end={to === "/"} className="underline-offset-8 hover:underline aria-[current=page]:underline aria-[current=page]:decoration-ochre aria-[current=page]:decoration-2">
              {name}
            </NavLink>
          ))}
        </nav>
        <div className="ml-auto flex items-center gap-4 text-sm">
          {!alive && <span className="text-plum">not live: connecting again</span>}
          {me.data && (
            <Link to="/people" className="text-soft underline-offset-4 hover:text-ink hover:underline" title={`Signed in as ${me.data.role}${me.data.scope ? " for " + me.data.scope : ""}`}>
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
      <May call="list-notices"><Troubles status={status.data} /></May>
      <main id="main">
        {page && !may(page[2]) ? (
          <p className="pt-8">
            {page[1]} {page[1].endsWith("s") ? "are" : "is"} more than {me.data?.name} may do here{me.data?.scope && `, who is let in for ${me.data.scope}`}. Ask an administrator.
          </p>
        ) : (
          <Suspense fallback={null}><Outlet /></Suspense>
        )}
      </main>
    </div>
    </Allowed>
  );
}
