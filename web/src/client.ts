import { QueryCache, QueryClient, type InvalidateOptions, type InvalidateQueryFilters, type Query } from "@tanstack/react-query";
import { Problem } from "./api";

/**
 * Client keeps what the service answered. What is invalidated while it is asked for the first time
 * is asked once more when that answer is there: the answer may be of before the change, and the
 * library joins the call under way instead of making another.
 */
export class Client extends QueryClient {
  override async invalidateQueries(filters?: InvalidateQueryFilters, options?: InvalidateOptions): Promise<void> {
    const first = new Set<Query>(this.getQueryCache().findAll({ ...filters, fetchStatus: "fetching" }).filter((q) => q.state.data === undefined));
    await super.invalidateQueries(filters, options);
    if (first.size > 0) await super.invalidateQueries({ predicate: (q) => first.has(q) }, options);
  }
}

export const client = new Client({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // The service may be on this very machine: whether the browser believes itself
      // online says nothing of it, least of all while a network is being mended.
      networkMode: "always",
      retry: (count, error) => !(error instanceof Problem && error.status >= 400 && error.status < 500) && count < 3,
    },
    mutations: { networkMode: "always" },
  },
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 401 && location.pathname !== "/sign-in")
        location.assign("/sign-in?to=" + encodeURIComponent(location.pathname + location.search));
    },
  }),
});
