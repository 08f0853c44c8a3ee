import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { PathEvent, Run } from "./api";
import { heard, type RunEvent } from "./runs";

/** mayBeSilent is how long the stream may say nothing: it does each five seconds at least. */
const mayBeSilent = 16_000;

/**
 * useLive keeps what is shown up to date from the service's event stream. It
 * returns false while the stream is broken; the browser connects again by
 * itself, and then all is read afresh.
 */
export function useLive(): boolean {
  const client = useQueryClient();
  const [alive, setAlive] = useState(true);
  useEffect(() => {
    let source: EventSource | undefined;
    let before = false; // it was open; the first time all is being read anyway
    let stale = new Set<string>();
    const flush = setInterval(() => {
      if (stale.size === 0) return;
      for (const id of stale) void client.invalidateQueries({ queryKey: ["path", id] });
      void client.invalidateQueries({ queryKey: ["paths"] });
      stale = new Set();
    }, 5000);
    // A service that is stopped, or cut off, keeps its connections and says nothing: another may
    // answer in its place.
    let silence: ReturnType<typeof setTimeout> | undefined;
    const listen = () => {
      clearTimeout(silence);
      silence = setTimeout(() => {
        setAlive(false);
        close();
        open();
      }, mayBeSilent);
    };
    const open = () => {
      if (source) return;
      source = new EventSource("/api/v1/events?brief=true");
      const on = (name: string, then: (e: MessageEvent) => void) =>
        source?.addEventListener(name, (e) => {
          listen();
          then(e);
        });
      listen();
      on("alive", () => undefined);
      source.onopen = () => {
        listen();
        setAlive(true);
        if (before) void client.invalidateQueries();
        before = true;
      };
      source.onerror = () => setAlive(false);
      on("path", (e) => {
        const { path_id, state } = JSON.parse(e.data) as PathEvent;
        stale.add(path_id);
        if (state) void client.invalidateQueries({ queryKey: ["status"] });
      });
      on("run", (e) => {
        const event = JSON.parse(e.data) as RunEvent;
        const key = event.run_id ? ["run", event.run_id] : ["run"];
        const run = event.run_id ? client.getQueryData<Run>(key) : undefined;
        const next = run && heard(run, event);
        if (next) client.setQueryData(key, next);
        else if (run || !event.run_id) void client.invalidateQueries({ queryKey: key });
      });
      on("sweep", () => void client.invalidateQueries({ queryKey: ["sweeps"] }));
      on("two-ended", () => void client.invalidateQueries({ queryKey: ["two-ended"] }));
      on("trace", () => void client.invalidateQueries({ queryKey: ["traces"] }));
      on("incident", () => {
        void client.invalidateQueries({ queryKey: ["incidents"] });
        void client.invalidateQueries({ queryKey: ["paths"] });
      });
      on("notice", () => void client.invalidateQueries({ queryKey: ["status"] }));
    };
    // A browser gives one server six connections in all: only the pages that are
    // seen hold one, not those in other tabs or left behind.
    const close = () => {
      clearTimeout(silence);
      source?.close();
      source = undefined;
    };
    const see = () => (document.visibilityState === "visible" ? open() : close());
    see();
    document.addEventListener("visibilitychange", see);
    addEventListener("pagehide", close);
    addEventListener("pageshow", see);
    return () => {
      document.removeEventListener("visibilitychange", see);
      removeEventListener("pagehide", close);
      removeEventListener("pageshow", see);
      clearInterval(flush);
      close();
    };
  }, [client]);
  return alive;
}
