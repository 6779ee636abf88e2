import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { field, plain, primary, small } from "./styles";
import { Pager, row, Table } from "./table";
import type { ImportedLine } from "../schema";

const words = { add: "new", change: "changed", same: "unchanged", error: "can't be imported" };
const past = { add: "added", change: "changed", same: "unchanged", error: "skipped" };
const colours = { add: "text-good", change: "text-ask", same: "text-soft", error: "font-bold text-bad" };
const actions = ["error", "add", "change", "same"] as const;

// A file that is brought in: first what would happen to each line, then, if wanted, it
// happens. With strict, nothing is taken while a line has an error.
export function Import({
  what,
  hint,
  example,
  accept,
  strict,
  run,
  onDone,
}: {
  what: string;
  hint: React.ReactNode;
  example: string;
  accept: string;
  strict: boolean;
  run: (file: string, dry: boolean) => Promise<ImportedLine[]>;
  onDone: () => void;
}) {
  const [text, setText] = useState("");
  const [name, setName] = useState("");
  const [shown, setShown] = useState<ImportedLine["action"]>();
  const [offset, setOffset] = useState(0);
  const chooser = useRef<HTMLInputElement>(null);
  const dry = useMutation({
    mutationFn: (file: string) => run(file, true),
    onMutate: () => {
      real.reset();
      setOffset(0);
    },
    onSuccess: (lines) => setShown(lines.some((l) => l.action === "error") ? "error" : undefined),
  });
  const real = useMutation({
    mutationFn: () => run(text, false),
    onSuccess: (lines) => setShown(strict && lines.some((l) => l.action === "error") ? "error" : undefined),
  });
  const lines = real.data ?? dry.data;
  const count = (a: ImportedLine["action"]) => lines?.filter((l) => l.action === a).length ?? 0;
  const left = shown ? lines?.filter((l) => l.action === shown) : lines;
  const some = count("add") + count("change");
  const blocked = strict && count("error") > 0;
  const done = !!real.data && !blocked; // the accounts can have changed since the dry run
  const error = dry.error ?? real.error;
  return (
    <div className="flex flex-col gap-4">
      <p className="text-soft">{hint}</p>
      <div className="flex flex-wrap items-center gap-3">
        <button type="button" className={plain} onClick={() => chooser.current?.click()} data-autofocus>
          Choose a file
        </button>
        <span className="text-soft wrap-anywhere">{name || "or paste it here:"}</span>
        <input
          ref={chooser}
          type="file"
          className="hidden"
          accept={accept}
          aria-label={`File of ${what}`}
          tabIndex={-1}
          onChange={async (e) => {
            const file = e.target.files?.[0];
            e.target.value = ""; // the same file can be chosen again, mended
            if (!file) return;
            const read = await file.text();
            setName(file.name);
            setText(read);
            dry.mutate(read);
          }}
        />
      </div>
      {!name && (
        <textarea
          className={`${field} font-mono text-sm`}
          rows={5}
          aria-label={`Text of ${what}`}
          placeholder={example}
          value={text}
          spellCheck={false}
          onChange={(e) => {
            setText(e.target.value);
            dry.reset();
          }}
        />
      )}
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className={lines ? plain : primary}
          disabled={!text.trim() || dry.isPending || real.isPending}
          onClick={() => dry.mutate(text)}
        >
          {dry.isPending ? "Checking …" : "Preview"}
        </button>
        {name && (
          <button
            type="button"
            className={plain}
            onClick={() => {
              setName("");
              setText("");
              dry.reset();
              real.reset();
            }}
          >
            Import another
          </button>
        )}
      </div>
      {error && (
        <p role="alert" className="text-bad">
          {error.message}
        </p>
      )}
      {lines && (
        <>
          <p role="status" className="flex flex-wrap items-center gap-2">
            {done && <span className="font-bold text-good">Done.</span>}
            {actions
              .filter((a) => count(a) > 0)
              .map((a) => (
                <button
                  key={a}
                  type="button"
                  className={`${small} ${shown === a ? "bg-hover" : ""}`}
                  aria-pressed={shown === a}
                  onClick={() => {
                    setShown(shown === a ? undefined : a);
                    setOffset(0);
                  }}
                >
                  <span className={colours[a]}>{count(a).toLocaleString()}</span> {(done ? past : words)[a]}
                </button>
              ))}
            {lines.length === 0 && <span className="text-soft">It contains nothing.</span>}
          </p>
          {left && left.length > 0 && (
            <Table heads={["Line", "Name", "What"]}>
              {left.slice(offset, offset + 50).map((l, i) => (
                <tr key={i} className={row}>
                  <td className="py-1.5 pr-4 text-soft">{l.line}</td>
                  <td className="py-1.5 pr-4 font-bold wrap-anywhere">{l.name || <span className="font-normal text-soft">–</span>}</td>
                  <td className="py-1.5 wrap-anywhere">
                    <span className={colours[l.action]}>{(done ? past : words)[l.action]}</span>
                    {l.detail && `: ${l.detail}`}
                  </td>
                </tr>
              ))}
            </Table>
          )}
          <Pager offset={offset} shown={left?.slice(offset, offset + 50).length ?? 0} total={left?.length ?? 0} onMove={setOffset} />
          {!done && (
            <div className="flex flex-wrap items-center gap-3">
              <button type="button" className={primary} disabled={blocked || some === 0 || real.isPending} onClick={() => real.mutate()}>
                {real.isPending ? "Importing …" : `Import ${some.toLocaleString()}`}
              </button>
              <span className="text-sm text-soft">
                {blocked
                  ? "Fix the lines that can't be imported first: all lines are imported, or none."
                  : some === 0
                    ? "There is nothing to import."
                    : "Nothing has been changed yet."}
              </span>
            </div>
          )}
        </>
      )}
      {done && (
        <div>
          <button type="button" className={plain} onClick={onDone}>
            Close
          </button>
        </div>
      )}
    </div>
  );
}
