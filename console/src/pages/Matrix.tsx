import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, type MatrixRow, type Outcome } from "../api";
import { hasRegions, matrixTree, pruned, summary, type Spot } from "../matrix";
import { Answer } from "../parts/Answer";
import { Drawer } from "../parts/controls";
import { OutcomeMark, OutcomeShape } from "../parts/OutcomeMark";
import { Broken, Heading, Loading } from "../parts/states";

const outcomes: Outcome[] = ["admit", "challenge", "refuse", "hide", "reject"];

interface Asked {
  row: MatrixRow;
  visitor: string;
}

// Who gets what, for the whole site: a row for each place, a column for each visitor.
export function MatrixPage() {
  const [params, setParams] = useSearchParams();
  const more = params.getAll("as");
  const [words, setWords] = useState("");
  const [outcome, setOutcome] = useState<Outcome | "">("");
  const [asked, setAsked] = useState<Asked>();
  const regions = useQuery({ queryKey: ["matrix", false, more], queryFn: () => api.matrix({ files: false, as: more }), placeholderData: keepPreviousData, retry: false, refetchInterval: 15_000 });
  const files = useQuery({ queryKey: ["matrix", true, more], queryFn: () => api.matrix({ files: true, as: more }), placeholderData: keepPreviousData, retry: false });
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
  const fits = (row: MatrixRow) => {
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
              <Row key={row.label} row={row} name={row.doors[1] ? row.label : "everything else (unlisted)"} depth={0} visitors={visitors} onAsk={setAsked} />
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

const step = 200;

// The rows of a spot, and if it is open those below. With all, everything is open.
function SpotRows({ spot, depth, visitors, all, onAsk }: { spot: Spot; depth: number; visitors: string[]; all: boolean; onAsk: (a: Asked) => void }) {
  const [chosen, setChosen] = useState<boolean>();
  const [limit, setLimit] = useState(step);
  const below = useMemo(() => sorted([...spot.below.values()]), [spot]);
  // The file of a door for one path alone is that very place.
  const file = spot.regions.some((r) => !r.doors[0]?.path.endsWith("/**")) ? undefined : spot.file;
  const open = chosen ?? (all || below.some(hasRegions));
  const toggle = below.length > 0 || (file && spot.regions.length > 0) ? { open, onToggle: () => setChosen(!open) } : undefined;
  const isRoot = depth === 0;
  const name = isRoot ? "/" : "/" + spot.name;
  return (
    <>
      {spot.regions.map((row, i) => (
        <Row key={row.label} row={row} name={regionName(row, name)} depth={depth} visitors={visitors} onAsk={onAsk} toggle={i === 0 ? toggle : undefined} />
      ))}
      {spot.regions.length === 0 && spot.file && <Row row={spot.file} name={name} depth={depth} visitors={visitors} onAsk={onAsk} toggle={toggle} file />}
      {spot.regions.length === 0 && !spot.file && (
        <tr className="border-b border-line hover:bg-hover">
          <Name name={name} depth={depth} toggle={toggle} soft />
          {summary(spot, visitors.length).map((o, i) => (
            <td key={i} className="text-center text-soft">
              {o ? (
                <span className="inline-flex p-1.5 opacity-60">
                  <OutcomeShape outcome={o} />
                  <span className="sr-only">{o}, all below</span>
                </span>
              ) : (
                <span>
                  <span aria-hidden="true">·</span>
                  <span className="sr-only">differs below</span>
                </span>
              )}
            </td>
          ))}
        </tr>
      )}
      {open && spot.regions.length > 0 && file && <Row row={file} name={file.label} depth={depth + 1} visitors={visitors} onAsk={onAsk} file />}
      {open && below.slice(0, limit).map((b) => <SpotRows key={b.key} spot={b} depth={depth + 1} visitors={visitors} all={all} onAsk={onAsk} />)}
      {open && below.length > limit && (
        <tr>
          <td colSpan={visitors.length + 1} style={{ paddingLeft: `${(depth + 1) * 1.25 + 1.5}rem` }}>
            <button type="button" className="cursor-pointer py-1 underline" onClick={() => setLimit(limit + step)}>
              Show {Math.min(step, below.length - limit)} more of {below.length - limit}
            </button>
          </td>
        </tr>
      )}
    </>
  );
}

// By name, patterns with a star behind plain names.
const sorted = (spots: Spot[]) => spots.sort((a, b) => Number(a.name.includes("*")) - Number(b.name.includes("*")) || a.name.localeCompare(b.name));

function regionName(row: MatrixRow, name: string): string {
  const methods = /^[A-Z, -]+(?= )/.exec(row.label)?.[0];
  const whole = row.doors[0]?.path.endsWith("/**") ? `${name === "/" ? "" : name}/**` : name;
  return (methods ? methods + " " : "") + row.host + whole;
}

interface Toggle {
  open: boolean;
  onToggle: () => void;
}

function Name({ name, depth, toggle, soft }: { name: string; depth: number; toggle?: Toggle; soft?: boolean }) {
  return (
    <th scope="row" className="py-1 pr-6 font-normal">
      <span className="flex items-center gap-1" style={{ paddingLeft: `${depth * 1.25}rem` }}>
        {toggle ? (
          <button type="button" aria-expanded={toggle.open} aria-label={`Below ${name}`} className="w-6 shrink-0 cursor-pointer text-soft hover:text-ink" onClick={toggle.onToggle}>
            <span aria-hidden="true">{toggle.open ? "▾" : "▸"}</span>
          </button>
        ) : (
          <span className="w-6 shrink-0" />
        )}
        <code className={`wrap-anywhere ${soft ? "text-soft" : ""}`}>{name}</code>
      </span>
    </th>
  );
}

function Row({ row, name, depth, visitors, onAsk, toggle, file }: { row: MatrixRow; name: string; depth: number; visitors: string[]; onAsk: (a: Asked) => void; toggle?: Toggle; file?: boolean }) {
  return (
    <tr className="border-b border-line hover:bg-hover">
      <Name name={name} depth={depth} toggle={toggle} soft={file} />
      {row.cells.map((c, i) => (
        <td key={i} className="text-center">
          <button
            type="button"
            title={c.detail}
            aria-label={`${name} as ${visitors[i]}: ${c.detail}`}
            className="inline-flex cursor-pointer rounded p-1.5 hover:bg-sheet"
            onClick={() => onAsk({ row, visitor: visitors[i]! })}
          >
            <OutcomeShape outcome={c.outcome} />
          </button>
        </td>
      ))}
    </tr>
  );
}

// Why a visitor gets that: the same explanation as on the page Try.
function Why({ asked, onClose }: { asked?: Asked; onClose: () => void }) {
  const question = asked && { method: asked.row.method, url: (asked.row.host ? `http://${asked.row.host}` : "") + asked.row.path, as: asked.visitor, client: "browser" };
  const answer = useQuery({ queryKey: ["explain", question], queryFn: () => api.explain(question!), enabled: !!question, placeholderData: keepPreviousData });
  return (
    <Drawer
      open={!!asked}
      onClose={onClose}
      title={
        question && (
          <span className="font-normal">
            <code>
              {question.method} {question.url}
            </code>{" "}
            as <code>{question.as}</code>
          </span>
        )
      }
    >
      {question && (
        <>
          {asked.row.kind === "region" && (
            <p className="-mt-3 text-sm text-soft">
              One place of <code>{asked.row.label}</code>; all others of it are decided alike.
            </p>
          )}
          <div className="mt-6 min-h-64">{answer.error ? <p role="alert">{answer.error.message}</p> : answer.data && <Answer explanation={answer.data} narrow />}</div>
          <p className="mt-6">
            <Link className="text-brass underline" to={`/try?${new URLSearchParams(question)}`}>
              Change the question
            </Link>
          </p>
        </>
      )}
    </Drawer>
  );
}
