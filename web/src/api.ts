import type { components } from "./schema";

type Schemas = components["schemas"];
export type Path = Schemas["Path"];
export type PathList = Schemas["PathList"];
export type Series = Schemas["Series"];
export type Episode = Schemas["Episode"];
export type Excess = Schemas["Excess"];
export type Incident = Schemas["Incident"];
export type Property = Schemas["Property"];
export type Reading = Schemas["Reading"];
export type Status = Schemas["Status"];
export type Baseline = Schemas["Baseline"];
export type Run = Schemas["Run"];
export type Notice = Schemas["Notice"];
export type Finding = Schemas["Finding"];
export type Agent = Schemas["Agent"];
export type Sweep = Schemas["Sweep"];
export type SweepReport = Schemas["Report"];
export type Watch = Schemas["Watch"];
export type Trace = Schemas["Trace"];
export type TraceReport = Schemas["TraceReport"];
export type Lanes = Schemas["Lanes"];
export type SeenRoute = Schemas["SeenRoute"];
export type TwoEnded = Schemas["TwoEnded"];
export type Invite = Schemas["Invite"];
export type WalkReport = Schemas["Walk"];

/** An error that the service explained (RFC 9457), or that kept it from answering. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

/** call asks the service; body, when given, is sent as JSON. */
export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch("/api/v1" + path, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "The service does not answer. What was measured is kept; this page tries again by itself.");
  }
  if (answer.status === 204) return undefined as T;
  const content = await answer.json().catch(() => null);
  if (!answer.ok) throw new Problem(answer.status, content?.detail ?? content?.title ?? answer.statusText);
  return content as T;
}

export const get = <T,>(path: string) => call<T>("GET", path);
