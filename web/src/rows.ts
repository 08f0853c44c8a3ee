import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, type PathRow, type PathSketches, type RowList } from "./api";

/** part is how many rows are asked for at once. */
export const part = 50;

/** partsOf are the parts that hold the rows from first to last: all that is asked for. */
export function partsOf(first: number, last: number): number[] {
  const parts = [];
  for (let n = Math.floor(Math.max(0, first) / part); n <= Math.floor(Math.max(0, last) / part); n++) parts.push(n);
  return parts;
}

/** placed are the rows of some parts by their place. Of one that moved between two parts while they were read the first is kept. */
export function placed(parts: number[], lists: (PathRow[] | undefined)[]): Map<number, PathRow> {
  const rows = new Map<number, PathRow>();
  const seen = new Set<string>();
  parts.forEach((n, i) =>
    lists[i]?.forEach((r, k) => {
      if (!seen.has(r.id)) rows.set(n * part + k, r);
      seen.add(r.id);
    }),
  );
  return rows;
}

/**
 * useRows are the rows of some parts of a list that may be long, and of each path's last day. What
 * is not seen is not asked for.
 */
export function useRows(query: string, parts: number[]) {
  const lists = useQueries({
    queries: parts.map((n) => ({
      queryKey: ["paths", "rows", query, n],
      queryFn: () => get<RowList>(`/paths/rows?offset=${n * part}&limit=${part}${query && "&" + query}`),
      placeholderData: n === 0 ? keepPreviousData : undefined,
      refetchInterval: 60_000,
    })),
  });
  const rows = placed(parts, lists.map((l) => l.data?.rows));
  const newest = lists.reduce((a, b) => (b.dataUpdatedAt > a.dataUpdatedAt ? b : a));
  // While a part is read that was not seen yet, the list is as long as it was.
  const known = useRef<{ query: string; total?: number }>({ query });
  const total = (newest.data ?? lists.find((l) => l.data)?.data)?.total ?? (known.current.query === query ? known.current.total : undefined);
  useEffect(() => {
    known.current = { query, total };
  }, [query, total]);
  const failed = lists.find((l) => l.error && !l.data);
  return { rows, total, error: failed?.error, retry: () => lists.forEach((l) => void l.refetch()), sketches: useSketches([...rows.values()].map((r) => r.id)) };
}

/** useSketches keeps those that were read before, so that none blinks while others are read. */
function useSketches(ids: string[]): PathSketches {
  const [kept, setKept] = useState<PathSketches>({});
  const key = ids.join(",");
  const read = useQuery({
    queryKey: ["sketches", key],
    queryFn: () => get<PathSketches>("/paths/sketches?ids=" + key),
    enabled: key !== "",
    refetchInterval: 60_000,
  });
  const last = useRef<PathSketches>(undefined);
  useEffect(() => {
    if (!read.data || read.data === last.current) return;
    last.current = read.data;
    setKept((old) => ({ ...old, ...read.data }));
  }, [read.data]);
  return kept;
}
