import { key } from "../parts/keys";
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo } from "react";
import { getStatus } from "../frame/queries";
import type { MarkedRow, MarksQuery } from "../schema";
import { api, said } from "../wire";

const getMarks = (body: MarksQuery) => said(api.POST("/matrix/marks", { body }));

// How many rows are asked for at a time.
const part = 2000;

// The rows of the matrix, in parts: what has come is shown while the rest is on its way. They are asked for anew when
// another version of the policy comes into force.
export function useMarks(files: boolean, as: string[]) {
  const version = useQuery({ queryKey: key("status"), queryFn: getStatus }).data?.policyVersion;
  const parts = useInfiniteQuery({
    queryKey: key("marks", files, as, version),
    queryFn: ({ pageParam }) => getMarks({ files, as, from: pageParam, limit: part }),
    initialPageParam: 0,
    getNextPageParam: (last, _all, from) =>
      from + last.rows.length < last.total && last.rows.length > 0 ? from + last.rows.length : undefined,
    enabled: version !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage, data } = parts;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, fetchNextPage, data]);
  const rows = useMemo(() => data?.pages.flatMap((p) => p.rows) ?? none, [data]);
  return {
    rows,
    first: data?.pages[0],
    complete: !!data && !hasNextPage,
    pending: parts.isPending,
    error: parts.error,
    refetch: parts.refetch,
  };
}

const none: MarkedRow[] = [];
