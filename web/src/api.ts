import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Path = Schemas["Path"];
export type Asked = Schemas["Asked"];
export type Passkey = Schemas["Passkey"];
export type WaysIn = Schemas["WaysIn"];
export type PathList = Schemas["PathList"];
export type PathEvent = Schemas["PathEvent"];
export type PathRow = Schemas["PathRow"];
export type RowList = Schemas["RowList"];
export type PathChoices = Schemas["PathChoices"];
export type PathSketches = Record<string, Schemas["Sketch"]>;
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
export type SideBySide = Schemas["SideBySide"];
export type Visit = Schemas["Visit"];
export type LikeWorld = Schemas["LikeWorld"];
export type Watch = Schemas["Watch"];
export type Trace = Schemas["Trace"];
export type TraceReport = Schemas["TraceReport"];
export type Lanes = Schemas["Lanes"];
export type SeenRoute = Schemas["SeenRoute"];
export type TwoEnded = Schemas["TwoEnded"];
export type Invite = Schemas["Invite"];
export type WalkReport = Schemas["Walk"];
export type Kind = Schemas["Kind"];
export type KindField = Schemas["Field"];
export type Measurement = Schemas["Measurement"];
export type WatchSpec = Schemas["WatchSpec"];
export type WatchChanges = Schemas["WatchChanges"];
export type Maintenance = Schemas["Maintenance"];
export type Objective = Schemas["Objective"];
export type Fitness = Schemas["Fitness"];
export type Evidence = Schemas["Evidence"];
export type Conversation = Schemas["Conversation"];
export type Channel = Schemas["Channel"];
export type ChannelType = Schemas["ChannelType"];
export type Rule = Schemas["Rule"];
export type RuleSpec = Schemas["RuleSpec"];
export type Message = Schemas["Message"];
export type GuestLink = Schemas["GuestLink"];
export type GuestLinkSpec = Schemas["GuestLinkSpec"];
export type GuestOpening = Schemas["GuestOpening"];
export type Annotation = Schemas["Annotation"];
export type Plan = Schemas["Plan"];
export type PlanChange = Schemas["PlanChange"];
export type Board = Schemas["Board"];
export type BoardPart = Schemas["Part"];
export type BoardShown = Schemas["Shown"];
export type PartShown = Schemas["ShownPart"];
export type Site = Schemas["Site"];
export type Owner = Schemas["Owner"];
export type Scope = Schemas["Scope"];
export type Me = Schemas["Me"];
export type Person = Schemas["Person"];
export type Token = Schemas["Token"];
export type SignedIn = Schemas["SignedIn"];
export type Change = Schemas["Change"];
export type WelcomeLink = Schemas["WelcomeLink"];
export type PeriodReport = Schemas["Period"];

/** An error that the service explained (RFC 9457), or that kept it from answering. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
  ) {
    super(message);
  }
}

/** Bodies are what the calls of a method take, by their paths. */
type Bodies<M extends "post" | "put" | "patch" | "delete"> = {
  [P in keyof paths as paths[P] extends { [K in M]: unknown } ? P : never]: paths[P] extends { [K in M]: { requestBody: { content: { "application/json": infer B } } } } ? B : undefined;
};

/** post makes something; a body that the service would not take does not compile. The parts of a path in braces are filled in. */
export const post = <T, P extends keyof Bodies<"post"> = keyof Bodies<"post">>(path: P, body: Bodies<"post">[P], parts: Record<string, string> = {}) => call<T>("POST", filled(path, parts), body);
export const put = <T, P extends keyof Bodies<"put"> = keyof Bodies<"put">>(path: P, parts: Record<string, string>, body: Bodies<"put">[P]) => call<T>("PUT", filled(path, parts), body);

/** remove takes something away. */
export const remove = <P extends keyof Bodies<"delete">>(path: P, parts: Record<string, string>) => call<void>("DELETE", filled(path, parts));

const filled = (path: string, parts: Record<string, string>) => path.replace(/^\/api\/v1/, "").replace(/\{(\w+)\}/g, (_, name: string) => encodeURIComponent(parts[name] ?? ""));

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
