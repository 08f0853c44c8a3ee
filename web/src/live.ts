import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Path, Reading } from "./api";

/**
 * useLive keeps what is shown up to date from the service's event stream. It
 * returns false while the stream is broken; the browser connects again by
 * itself, and then all is read afresh.
 */
export function useLive(): boolean {
  const client = useQueryClient();
  const [alive, setAlive] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    let stale = new Set<string>();
    const flush = setInterval(() => {
      if (stale.size === 0) return;
      for (const id of stale) void client.invalidateQueries({ queryKey: ["path", id] });
      void client.invalidateQueries({ queryKey: ["paths"] });
      stale = new Set();
    }, 5000);
    source.onopen = () => {
      setAlive(true);
      void client.invalidateQueries();
    };
    source.onerror = () => setAlive(false);
    source.addEventListener("reading", (e) => stale.add((JSON.parse(e.data) as Reading).path_id));
    source.addEventListener("state", (e) => {
      stale.add((JSON.parse(e.data) as Path).id);
      void client.invalidateQueries({ queryKey: ["status"] });
    });
    source.addEventListener("notice", () => void client.invalidateQueries({ queryKey: ["status"] }));
    return () => {
      clearInterval(flush);
      source.close();
    };
  }, [client]);
  return alive;
}
