import type { components } from "./schema";
import type { Run } from "./api";

export type RunEvent = components["schemas"]["RunEvent"];

/** mostKept is how many probes of a run are shown one by one, as the service gives them. */
const mostKept = 400;

/**
 * heard is a run with what an event brings of it: what is known so far, and behind the probes that are there those that came. It is
 * undefined when something between them is missing, so that the run is to be read anew.
 */
export function heard(run: Run, event: RunEvent): Run | undefined {
  if (run.outcome !== "running" || event.outcome !== "running") return undefined;
  const next: Run = { ...run, heard: event.heard ?? run.heard, of: event.of ?? run.of, says: event.says };
  if (event.live) next.live = event.live;
  if (event.result !== undefined) next.result = event.result;
  if (!event.reading) return next;
  const known = run.reading?.sent ?? 0;
  const from = event.rtts_from ?? 0;
  const news = event.rtts_ms ?? [];
  if (from > known) return undefined;
  next.reading = event.reading;
  next.rtts_ms = [...(run.rtts_ms ?? []), ...news.slice(known - from)].slice(-mostKept);
  return next;
}
