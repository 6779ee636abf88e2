import { useCallback, useDeferredValue, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { ChooseColumns, useColumns } from "./Columns";
import { type Asked, Grid } from "./Grid";
import { Why } from "./Why";
import { useMarks } from "./queries";
import { type Line, linesOf, markOf, matrixTree } from "./tree";
import { useNarrow } from "../parts/hooks";
import { type Outcome, OutcomeMark, wordOf } from "../parts/OutcomeMark";
import { Broken, Heading, Loading } from "../parts/states";
import type { MarkedRow } from "../schema";

const outcomes: Outcome[] = ["admit", "challenge", "refuse", "hide", "reject"];
const nobody: string[] = [];

// Who gets what, for the whole site: a row for each place, a column for each visitor.
export function MatrixPage() {
  const [params, setParams] = useSearchParams();
  const more = useMemo(() => params.getAll("as"), [params]);
  const [words, setWords] = useState("");
  const [outcome, setOutcome] = useState<Outcome | "">("");
  const [asked, setAsked] = useState<Asked>();
  const [chosen, setChosen] = useState<Map<string, boolean>>(new Map());
  const narrow = useNarrow();
  const regions = useMarks(false, more);
  const files = useMarks(true, more);
  const visitors = regions.first?.visitors ?? nobody;
  const { shown, table } = useColumns(visitors, narrow);
  const tree = useMemo(() => matrixTree(regions.rows, files.rows), [regions.rows, files.rows]);
  const texts = useMemo(() => new WeakMap<MarkedRow, string>(), []);

  const wanted = useDeferredValue(words);
  const lines = useMemo(() => {
    const terms = wanted.toLowerCase().split(/\s+/).filter(Boolean);
    const mark = outcome && markOf(outcome);
    const fits = (row: MarkedRow) => {
      let text = texts.get(row);
      if (text === undefined)
        texts.set(row, (text = [row.label, row.path, row.host, ...row.doors.map((d) => `${d.path} ${d.admit}`)].join(" ").toLowerCase()));
      return terms.every((t) => text.includes(t)) && (!mark || row.marks.includes(mark));
    };
    return linesOf(tree, { fits: terms.length > 0 || mark ? fits : undefined, chosen });
  }, [tree, wanted, outcome, chosen, texts]);
  const toggle = useCallback((line: Line) => setChosen((before) => new Map(before).set(line.spot!.key, !line.open)), []);

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
  if (regions.pending) return <Loading what="the matrix" />;

  const usual = visitors.length - more.length;
  const columns = shown.map(({ who, at }) => ({
    who,
    at,
    onLeaveOut:
      at >= usual ? () => setParams(more.filter((_, k) => k !== at - usual).map((as) => ["as", as] as [string, string])) : undefined,
  }));

  return (
    <>
      <Heading title="Matrix">
        Who gets what at every place of the site, computed from the policy. Each door is one row. Open it to see its files, or select a cell
        to see why.
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
          Result
          <select
            value={outcome}
            onChange={(e) => setOutcome(e.target.value as Outcome | "")}
            className="rounded border border-line bg-sheet px-2 py-1.5 text-ink"
          >
            <option value="">anything</option>
            {outcomes.map((o) => (
              <option key={o} value={o}>
                {wordOf(o)}
              </option>
            ))}
          </select>
        </label>
        <ChooseColumns table={table} visitors={visitors} />
        <AddVisitor onAdd={(who) => setParams([...more, who].map((as) => ["as", as] as [string, string]))} />
      </div>
      <ul className="mb-3 flex flex-wrap gap-x-5 gap-y-1 text-sm" aria-label="What the marks mean">
        {outcomes.map((o) => (
          <li key={o}>
            <OutcomeMark outcome={o} />
          </li>
        ))}
        <li className="text-soft">· mixed below</li>
      </ul>
      {lines.length > 0 ? (
        <Grid lines={lines} columns={columns} narrow={narrow} onAsk={setAsked} onToggle={toggle} />
      ) : (
        <p className="py-8 text-soft">No place matches.</p>
      )}
      <p className="mt-3 min-h-6 text-sm text-soft" role="status">
        {!regions.complete
          ? `${regions.rows.length.toLocaleString()} of ${regions.first!.total.toLocaleString()} regions are here …`
          : !files.complete
            ? "Reading the files …"
            : files.first?.more
              ? `There are more files; the first ${files.rows.length.toLocaleString()} are shown.`
              : ""}
      </p>
      <Why asked={asked} onClose={() => setAsked(undefined)} />
    </>
  );
}

function AddVisitor({ onAdd }: { onAdd: (who: string) => void }) {
  const [who, setWho] = useState("");
  return (
    <form
      className="flex min-w-0 items-center gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (who.trim()) onAdd(who.trim());
        setWho("");
      }}
    >
      <label className="flex min-w-0 items-center gap-2 text-soft max-sm:flex-col max-sm:items-start">
        Add a visitor
        <input
          value={who}
          onChange={(e) => setWho(e.target.value)}
          placeholder="role:trustee,proof-age:20m"
          spellCheck={false}
          autoCapitalize="none"
          className="w-60 min-w-0 rounded border border-line bg-sheet px-3 py-1.5 font-mono text-sm text-ink placeholder:text-soft"
        />
      </label>
      <button
        type="submit"
        disabled={!who.trim()}
        className="cursor-pointer rounded border border-line px-3 py-1.5 hover:bg-hover disabled:cursor-not-allowed
          disabled:opacity-50 max-sm:self-end"
      >
        Add
      </button>
    </form>
  );
}
