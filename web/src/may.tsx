import { createContext, use, type ReactNode } from "react";
import type { operations } from "./schema";

/** Call is one of the service's, by its identifier in the OpenAPI document. */
export type Call = keyof operations;

/** Allowed holds the calls that who is signed in may make; undefined while that is not known: the service refuses what it must. */
export const Allowed = createContext<ReadonlySet<string> | undefined>(undefined);

/** useMay says whether who is signed in may make a call. */
export function useMay(): (call: Call) => boolean {
  const allowed = use(Allowed);
  return (call) => allowed === undefined || allowed.has(call);
}

/** May shows what leads to a call to those who may make it, and else what is said instead. */
export function May({ call, children, or }: { call: Call; children: ReactNode; or?: ReactNode }) {
  return useMay()(call) ? children : or;
}
