import { key } from "../parts/keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Drawer } from "../parts/dialog";
import { when } from "../parts/format";
import { useSettled } from "../parts/hooks";
import { OutcomeMark, type Outcome } from "../parts/OutcomeMark";
import { small } from "../parts/styles";
import { row, Table } from "../parts/table";
import type { Replayed } from "../schema";
import { replayPolicy } from "./queries";

const many = (n: number, one: string, more: string) => `${n.toLocaleString()} ${n === 1 ? one : more}`;

// A draft that was checked, tried on what was decided in the last days. What the check says stands above it, and pushes it away no more.
export function Tried({ text }: { text: string }) {
  const settled = useSettled(text, 600);
  const [open, setOpen] = useState(false);
  const tried = useQuery({
    queryKey: key("replay", settled),
    queryFn: () => replayPolicy(settled),
    placeholderData: keepPreviousData,
    retry: false,
    staleTime: 60_000,
  });
  if (tried.isPending) return <p className="mt-3 text-sm text-soft">Replaying recent requests …</p>;
  if (tried.error) return <p className="mt-3 text-sm text-soft">Recent requests could not be replayed: {tried.error.message}</p>;
  const r = tried.data;
  if (!r.kept)
    return (
      <p className="mt-3 text-sm text-soft">
        With <code>--keep-decisions 7d</code>, this shows which recent requests would get a different answer.
      </p>
    );
  return (
    <div className="mt-3">
      <p>{sentence(r)}</p>
      {r.groups.length > 0 && (
        <button type="button" className={`${small} mt-1`} onClick={() => setOpen(true)}>
          Show them
        </button>
      )}
      <Drawer open={open} title="Different answers" onClose={() => setOpen(false)}>
        <p className="mb-3 text-soft">{sentence(r)}</p>
        <Table heads={["Address", "Then", "Now", "Who"]}>
          {r.groups.map((g, i) => (
            <tr key={i} className={row}>
              <td className="py-2 pr-4 wrap-anywhere">
                <code>
                  {g.method} {g.host}
                  {g.path}
                </code>
                <span className="block text-sm text-soft">
                  {many(g.requests, "request", "requests")}
                  {g.last ? `, last ${when(g.last)}` : ""}
                </span>
              </td>
              <td className="py-2 pr-4">
                <OutcomeMark outcome={g.before as Outcome} />
              </td>
              <td className="py-2 pr-4">
                <OutcomeMark outcome={g.after as Outcome} />
              </td>
              <td className="py-2 wrap-anywhere text-sm text-soft">
                {many(g.people, "person", "people")}: {g.visitors.slice(0, 2).join(", ")}
              </td>
            </tr>
          ))}
        </Table>
        {r.more > 0 && <p className="mt-3 text-soft">and {r.more} more</p>}
      </Drawer>
    </div>
  );
}

function sentence(r: Replayed): string {
  const of = `Of ${r.whole ? "the" : "the latest"} ${many(r.requests, "request", "requests")} in the last ${r.kept}`;
  return r.changed === 0
    ? `${of}, all would get the same answer.`
    : `${of}, ${r.changed.toLocaleString()} by ${many(r.people, "person", "people")} would get a different answer.`;
}
