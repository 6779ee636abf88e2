import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { Why } from "./Why";
import { getMatrix } from "./queries";
import { type Asked, PlaceRow, SpotRows } from "./rows";
import { matrixTree, pruned } from "./tree";
import { type Outcome, OutcomeMark } from "../parts/OutcomeMark";
import { Broken, Heading, Loading } from "../parts/states";
import type { Row } from "../schema";

const outcomes: Outcome[] = ["admit", "challenge", "refuse", "hide", "reject"];

// Who gets what, for the whole site: a row for each place, a column for each visitor.
export function MatrixPage() {
  const [params, setParams] = useSearchParams();
  const more = params.getAll("as");
  const [words, setWords] = useState("");
  const [outcome, setOutcome] = useState<Outcome | "">("");
  const [asked, setAsked] = useState<Asked>();
  const regions = useQuery({ queryKey: ["matrix", false, more], queryFn: () => getMatrix({ files: false, as: more }), placeholderData: keepPreviousData, retry: false, refetchInterval: 15_000 });
  const files = useQuery({ queryKey: ["matrix", true, more], queryFn: () => getMatrix({ files: true, as: more }), placeholderData: keepPreviousData, retry: false });
  const tree = useMemo(() => regions.data && matrixTree(regions.data.rows, files.data?.rows ?? []), [regions.data, files.data]);

  if (regions.isPending) return <Loading what="the matrix" />;
  if (regions.error)
    return (
      <>
        <Broken what="matrix" error={regions.error} retry={() => regions.refetch()} />
        {more.length > 0 && (
          <button type="button" className="mt-3 ml-4 cursor-pointer underline" onClick={() => setParams({})}>
            Show the usual visitors only
          </button>
        )}
      </>
    );

  const visitors = regions.data.visitors;
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const filtered = wanted.length > 0 || outcome !== "";
  const fits = (row: Row) => {
    const text = [row.label, row.path, row.host, ...row.doors.map((d) => `${d.path} ${d.admit}`)].join(" ").toLowerCase();
    return wanted.every((w) => text.includes(w)) && (outcome === "" || row.cells.some((c) => c.outcome === outcome));
  };
  const root = filtered ? pruned(tree!.root, fits) : tree!.root;
  const apart = tree!.apart.filter(fits);

  return (
    <>
      <Heading title="Matrix">
        Who gets what, at every place of the site: computed for all of them, not tried. Each door is one row, with the files behind it below;
        open a row to see them, choose a cell to see why.
      </Heading>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-3">
        <label className="flex items-center gap-2 text-soft">
          Filter
          <input
            type="search"
            value={words}
            onChange={(e) => setWords(e.target.value)}
            placeholder="a path, a role"
            className="w-48 rounded border border-line bg-sheet px-3 py-1.5 text-ink placeholder:text-soft"
          />
        </label>
        <label className="flex items-center gap-2 text-soft">
          Somebody gets
          <select value={outcome} onChange={(e) => setOutcome(e.target.value as Outcome | "")} className="rounded border border-line bg-sheet px-2 py-1.5 text-ink">
            <option value="">anything</option>
            {outcomes.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
        </label>
        <AddVisitor onAdd={(who) => setParams([...more, who].map((as) => ["as", as] as [string, string]))} />
      </div>
      <ul className="mb-3 flex flex-wrap gap-x-5 gap-y-1 text-sm" aria-label="What the marks mean">
        {outcomes.map((o) => (
          <li key={o}>
            <OutcomeMark outcome={o} />
          </li>
        ))}
        <li className="text-soft">· differs below</li>
      </ul>
      <div className="overflow-x-auto">
        <table className="border-collapse text-left">
          <thead className="text-sm">
            <tr className="border-b border-line align-bottom">
              <th scope="col" className="min-w-60 py-2 pr-6 font-normal text-soft">
                Place
              </th>
              {visitors.map((v, i) => (
                <th key={v} scope="col" className="min-w-22 px-2 py-2 text-center font-normal">
                  <VisitorName who={v} />
                  {i >= visitors.length - more.length && (
                    <button
                      type="button"
                      className="block w-full cursor-pointer text-soft underline"
                      aria-label={`Leave out ${v}`}
                      onClick={() => setParams(more.filter((_, k) => k !== i - (visitors.length - more.length)).map((as) => ["as", as] as [string, string]))}
                    >
                      leave out
                    </button>
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {root && <SpotRows spot={root} depth={0} visitors={visitors} all={filtered} onAsk={setAsked} />}
            {apart.map((row) => (
              <PlaceRow key={row.label} row={row} name={row.doors[1] ? row.label : "everything else (unlisted)"} depth={0} visitors={visitors} onAsk={setAsked} />
            ))}
          </tbody>
        </table>
      </div>
      {!root && apart.length === 0 && <p className="py-8 text-soft">No place fits.</p>}
      {files.isPending && <p className="mt-3 text-sm text-soft">Reading the files …</p>}
      {files.data?.more && <p className="mt-3 text-sm text-soft">There are more files; the first {files.data.rows.length} are shown.</p>}
      <Why asked={asked} onClose={() => setAsked(undefined)} />
    </>
  );
}

// "role:keeper" on two lines, so that the columns stay narrow.
function VisitorName({ who }: { who: string }) {
  const [first, ...rest] = who.split(/(?<=^[^,]*?:)|(?<=,)/);
  return (
    <>
      <span className={rest.length ? "block text-soft" : ""}>{first}</span>
      {rest.map((r, i) => (
        <span key={i} className="block">
          {r}
        </span>
      ))}
    </>
  );
}

function AddVisitor({ onAdd }: { onAdd: (who: string) => void }) {
  const [who, setWho] = useState("");
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (who.trim()) onAdd(who.trim());
        setWho("");
      }}
    >
      <label className="flex items-center gap-2 text-soft">
        Add a visitor
        <input
          value={who}
          onChange={(e) => setWho(e.target.value)}
          placeholder="role:trustee,proof-age:20m"
          spellCheck={false}
          autoCapitalize="none"
          className="w-60 rounded border border-line bg-sheet px-3 py-1.5 font-mono text-sm text-ink placeholder:text-soft"
        />
      </label>
      <button type="submit" disabled={!who.trim()} className="cursor-pointer rounded border border-line px-3 py-1.5 hover:bg-hover disabled:cursor-not-allowed disabled:opacity-50">
        Add
      </button>
    </form>
  );
}
