import { key } from "../parts/keys";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Said, useAct } from "../parts/act";
import { Drawer } from "../parts/dialog";
import { ago, when } from "../parts/format";
import { Broken, Heading, Loading } from "../parts/states";
import { field, primary, small, takes } from "../parts/styles";
import { row, Table } from "../parts/table";
import type { PatrolFinding, Patrols } from "../schema";
import { FindingDetails } from "./FindingDetails";
import { getPatrol, listPatrols, startPatrol, stopPatrol } from "./queries";
import { SeverityMark } from "./SeverityMark";

// Walks through the running site: start one, watch it, look through what it has found.
export function PatrolPage() {
  const list = useQuery({ queryKey: key("patrols"), queryFn: listPatrols, refetchInterval: (q) => (q.state.data?.running ? 1000 : 5000) });
  const [chosen, setChosen] = useState<number>();
  const act = useAct("patrols");
  const id = chosen ?? list.data?.patrols[0]?.id;
  return (
    <>
      <Heading title="Patrol">
        Checks the running site as every kind of visitor, with GET requests only. It finds forgotten pages, fake protection, broken
        redirects, protected pages in caches, and answers that don't match the policy.
      </Heading>
      {list.isPending ? (
        <Loading what="the patrols" />
      ) : list.error ? (
        <Broken what="patrols" error={list.error} retry={() => list.refetch()} />
      ) : (
        <>
          <section aria-label="Start" className="mb-6 min-h-20">
            {list.data.running ? (
              <Running running={list.data.running} stop={() => act.run(() => stopPatrol())} busy={act.busy} />
            ) : (
              <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
                <button
                  type="button"
                  className={primary}
                  disabled={act.busy}
                  onClick={() => act.run(() => startPatrol().then(() => setChosen(undefined)))}
                >
                  Start patrol
                </button>
                <p className="text-soft">
                  {list.data.every ? (
                    `Scheduled every ${list.data.every}.`
                  ) : (
                    <>
                      Not scheduled. Add <code>{"patrol: { every: 24h }"}</code> to the policy to run it daily.
                    </>
                  )}
                </p>
              </div>
            )}
            <Said act={act} />
          </section>
          {id === undefined ? (
            list.data.running ? null : (
              <p className="py-8 text-soft">No patrol yet. On a small site, one takes a few seconds.</p>
            )
          ) : (
            <>
              <Chosen list={list.data} id={id} choose={setChosen} />
              <Findings key={id} id={id} />
            </>
          )}
        </>
      )}
    </>
  );
}

function Running({ running: r, stop, busy }: { running: NonNullable<Patrols["running"]>; stop: () => void; busy: boolean }) {
  return (
    <div className="flex flex-wrap items-center gap-x-5 gap-y-2">
      <label className="flex grow flex-col gap-1 md:max-w-md">
        <span role="status">
          Running, {r.by ? `for ${r.by}` : "scheduled"}: {r.done} of {r.known || "…"} addresses
        </span>
        <progress className="h-2 w-full accent-brass" value={r.done} max={Math.max(r.known, 1)} />
      </label>
      <button type="button" className={takes} disabled={busy} onClick={stop}>
        Stop
      </button>
    </div>
  );
}

function Chosen({ list, id, choose }: { list: Patrols; id: number; choose: (id: number) => void }) {
  return (
    <label className="mb-4 flex flex-wrap items-center gap-2 text-soft">
      Patrol
      <select className={`${field} max-w-full`} value={id} onChange={(e) => choose(Number(e.target.value))}>
        {list.patrols.map((p) => (
          <option key={p.id} value={p.id}>
            {when(p.began)}, {p.by || "scheduled"}:{" "}
            {p.problem ? "failed" : `${p.found} ${p.found === 1 ? "finding" : "findings"}, ${p.fresh} new`}
          </option>
        ))}
      </select>
    </label>
  );
}

// What one patrol has found, those that nobody lives with first.
function Findings({ id }: { id: number }) {
  const patrol = useQuery({ queryKey: key("patrols", "one", id), queryFn: () => getPatrol(id) });
  const [open, setOpen] = useState<string>();
  const [accepted, setAccepted] = useState(false);
  if (patrol.isPending) return <Loading what="what was found" />;
  if (patrol.error) return <Broken what="patrol" error={patrol.error} retry={() => patrol.refetch()} />;
  const p = patrol.data;
  if (p.problem)
    return (
      <p role="alert" className="border-l-4 border-bad py-2 pl-4 wrap-anywhere">
        The patrol failed: {p.problem}
      </p>
    );
  const waived = p.findings.filter((f) => f.accepted);
  const shown = accepted ? p.findings : p.findings.filter((f) => !f.accepted);
  const finding = p.findings.find((f) => f.key === open);
  return (
    <>
      <p className="mb-3">
        {p.visited} addresses as {p.visitors.length} kinds of visitor, {ago(p.ended)}.{" "}
        {waived.length > 0 && (
          <button type="button" className={small} aria-pressed={accepted} onClick={() => setAccepted(!accepted)}>
            {accepted ? "Hide" : "Show"} {waived.length} accepted
          </button>
        )}
      </p>
      {shown.length === 0 ? (
        <p className="py-6">
          <span aria-hidden="true" className="mr-2 text-good">
            ●
          </span>
          {p.findings.length === 0 ? "No findings." : "Only accepted findings."}
        </p>
      ) : (
        <Table heads={["Where", "What", { label: "As", className: "max-lg:hidden" }]}>
          {shown.map((f) => (
            <Line key={f.key} finding={f} open={() => setOpen(f.key)} />
          ))}
        </Table>
      )}
      {p.leftOut.length > 0 && (
        <details className="mt-6">
          <summary className="cursor-pointer text-soft">Skipped: {p.leftOut.length}</summary>
          <ul className="mt-2 flex flex-col gap-1">
            {p.leftOut.map((l, i) => (
              <li key={i} className="wrap-anywhere">
                <code>{l.path}</code> <span className="text-soft">{l.reason}</span>
              </li>
            ))}
          </ul>
        </details>
      )}
      <Drawer open={!!finding} title={finding?.path ?? ""} onClose={() => setOpen(undefined)}>
        {finding && <FindingDetails patrol={id} finding={finding} done={() => setOpen(undefined)} />}
      </Drawer>
    </>
  );
}

function Line({ finding: f, open }: { finding: PatrolFinding; open: () => void }) {
  return (
    <tr className={row}>
      <td className="py-2 pr-6 wrap-anywhere">
        <button type="button" className="cursor-pointer text-left font-bold underline-offset-2 hover:underline" onClick={open}>
          {f.path}
        </button>
        <span className="block text-sm">
          <SeverityMark severity={f.severity} /> <span className="text-soft">{f.rule}</span>
        </span>
      </td>
      <td className="max-w-2xl py-2 pr-6 wrap-anywhere">
        <span className="block first-letter:uppercase">{f.message}</span>
        {f.accepted && (
          <span className="block text-sm text-soft">
            accepted by {f.accepted.by}: {f.accepted.reason}
          </span>
        )}
      </td>
      <td className="py-2 pr-6 wrap-anywhere text-soft max-lg:hidden">{f.as}</td>
    </tr>
  );
}
