import { key, type Kept } from "./keys";
import { useMutation, useQueryClient } from "@tanstack/react-query";

// What a part of a page does, one thing at a time, and what came of it; and which queries are then stale, also
// when it went wrong: somebody else may have changed something meanwhile.
// Each part has its own, so that what went wrong is told where it happened.
export function useAct(...stale: Kept[]) {
  const queries = useQueryClient();
  const act = useMutation({
    mutationFn: (what: () => Promise<string | void>) => what(),
    onSettled: () => {
      for (const name of stale) void queries.invalidateQueries({ queryKey: key(name) });
    },
  });
  return { run: act.mutate, busy: act.isPending, error: act.error, done: act.data ?? "", reset: act.reset };
}

// What came of it, in a line that is always there, so that nothing jumps.
export function Said({ act }: { act: { error: Error | null; done: string } }) {
  return (
    <p role="status" className="mt-1 min-h-6 text-sm">
      {act.error ? <span className="text-bad">{act.error.message}</span> : <span className="text-good">{act.done}</span>}
    </p>
  );
}
