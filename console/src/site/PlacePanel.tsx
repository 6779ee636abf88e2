import { key } from "../parts/keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { getDoors } from "../doors/queries";
import { addEntry, getKeyrings } from "../keyrings/queries";
import { getPassKinds } from "../passes/queries";
import { Said, useAct } from "../parts/act";
import { Ask } from "../parts/dialog";
import { useSettled } from "../parts/hooks";
import { field, plain, primary, takes } from "../parts/styles";
import { NewSecret } from "../passwords/NewSecret";
import { estimate } from "../passwords/queries";
import { getShared, setShared } from "../shared/queries";
import { OpensAndCloses } from "../policy/found";
import { applyPolicy, rollBack } from "../policy/queries";
import type { Edit, Exception } from "../schema";
import { Failure } from "../wire";
import { Applied, type Made } from "./Applied";
import { admitted, begin, editsOf, inherited, labelOf, make, pathOf, writable, type Choice, type Target } from "./choice";
import { Choices } from "./Choices";
import { Lines } from "./Lines";
import { tryEdits } from "./queries";
import { Sentence, type About } from "./Sentence";

// Some places: who may go there, what a change opens and closes, and then the change.
export function PlacePanel({ target, url }: { target: Target; url: string }) {
  const [changes, setChanges] = useState<Partial<Choice>>({});
  const [open, setOpen] = useState<About>("");
  const [removing, setRemoving] = useState(false);
  const [entry, setEntry] = useState({ name: "", password: "" }); // the first of a keyring
  const [asking, setAsking] = useState(false);
  const [made, setMade] = useState<Made>();
  const [overtaken, setOvertaken] = useState<number>(); // the version on top of which nothing can be applied any more
  const [known, setKnown] = useState<Exception[]>([]);
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const rings = useQuery({ queryKey: key("keyrings"), queryFn: getKeyrings });
  const shared = useQuery({ queryKey: key("shared"), queryFn: getShared });
  const passes = useQuery({ queryKey: key("passes", "kinds"), queryFn: getPassKinds });
  const c: Choice = { ...begin(target), ...changes };

  const own = doors.data?.doors.find(
    (d) => d.path === pathOf(target, c) && (d.host ?? "") === c.host && d.methods.join() === c.methods.join(),
  );
  const edits: Edit[] = removing
    ? own
      ? [{ kind: "remove", path: own.path, host: own.host, methods: own.methods }]
      : []
    : editsOf(target, c, known);
  const settled = useSettled(edits, 200);
  const preview = useQuery({
    queryKey: key("edit", settled),
    queryFn: async () => {
      const edited = await tryEdits(settled);
      // What is included is no exception any more, and stays in the list to be taken out again.
      setKnown((was) => [
        ...was.filter((e) => c.include.includes(labelOf(e))),
        ...(edited.exceptions ?? []).filter((e) => !c.include.includes(labelOf(e))),
      ]);
      return edited;
    },
    enabled: settled.length > 0,
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  });
  const act = useAct("site", "doors", "keyrings", "shared", "passes", "policy", "edit");
  const clear = () => {
    setChanges({});
    setOpen("");
    setRemoving(false);
    setKnown([]);
  };
  const set = (change: Partial<Choice>) => {
    act.reset();
    setRemoving(false);
    const next = { ...c, ...change };
    // Other methods or another host may have a door of their own already: then it is that one that is changed.
    if ("methods" in change || "host" in change) {
      const there = doors.data?.doors.find(
        (d) => d.path === pathOf(target, next) && (d.host ?? "") === next.host && d.methods.join() === next.methods.toSorted().join(),
      );
      if (there?.terms) change.terms = there.terms;
    }
    setChanges({ ...changes, ...change });
  };

  const current = edits.length > 0 && JSON.stringify(edits) === JSON.stringify(settled);
  const shown = edits.length > 0 ? preview.data : undefined;
  const ready = current && !preview.isFetching && !preview.error && !!shown?.changed && shown.base !== overtaken;
  const differences = shown?.compared.differences ?? [];
  const opened = differences.filter((d) => d.effect === "opened");
  const toStrangers = (effect: string) => differences.some((d) => d.effect === effect && d.witness.visitor === "anonymous");
  const broken = shown?.guarantees.filter((g) => g.state === "broken") ?? [];
  const where = target.pattern ?? target.title + (c.below && target.title !== "/" ? "/" : "");
  const does = removing
    ? `Remove the door of ${where}`
    : toStrangers("opened")
      ? `Open ${where} to everyone`
      : changes.terms && changes.terms.who !== begin(target).terms?.who
        ? admitted[changes.terms.who].act.replace("{where}", where)
        : `Apply to ${where}`;
  const ring = c.terms?.who === "keyring" ? c.terms.names?.[0] : undefined;
  const newRing = ring === make;
  const entries = rings.data?.find((k) => k.name === ring)?.entries;
  const empty = !removing && edits.length > 0 && (newRing || entries?.length === 0);
  // Of shared passwords the first that is chosen and has none gets one.
  const unset =
    c.terms?.who === "shared" && !removing && edits.length > 0
      ? c.terms.names?.find((n) => n === make || shared.data?.find((s) => s.name === n)?.passwords.length === 0)
      : undefined;
  const nameless = newRing && !entry.name.trim();

  const apply = () =>
    act.run(async () => {
      const said = removing ? `${own!.label} removed` : (shown!.sentence ?? []).map((p) => p.text).join("");
      try {
        await applyPolicy({ text: shown!.text, base: shown!.base, comment: said.slice(0, 300) });
      } catch (failure) {
        if (failure instanceof Failure && failure.code === "overtaken") setOvertaken(shown!.base);
        throw failure;
      }
      setAsking(false);
      const next: Made = { before: shown!.base };
      if (empty && entry.name.trim()) {
        const [name, to] = [entry.name.trim(), newRing ? c.newRing.name.trim() : ring!];
        try {
          await addEntry(to, { name, password: entry.password, note: "" });
          next.secret = { name, password: entry.password, word: (await estimate(entry.password, name)).word };
        } catch (failure) {
          next.trouble =
            `The name could not be added to the keyring ${to}, so nobody can get in yet: ${(failure as Error).message} ` +
            "Add one on the Keyrings page.";
        }
      }
      if (unset) {
        const name = unset === make ? c.newShared.name.trim() : unset;
        try {
          await setShared(name, { password: entry.password });
          next.shared = { title: (unset === make && c.newShared.title.trim()) || name, password: entry.password };
        } catch (failure) {
          next.trouble =
            `The password of ${name} could not be set, so nobody can get in yet: ${(failure as Error).message} ` +
            "Set one on the Shared passwords page.";
        }
      }
      next.passes = c.terms?.who === "pass" && !removing;
      setMade(next);
      setEntry({ name: "", password: "" });
      clear();
    });

  return (
    <section aria-label={`The place ${target.title}`} className="flex min-w-0 flex-col gap-5">
      <div>
        <h2 className="font-mono text-lg font-bold wrap-anywhere">{target.title}</h2>
        <Sentence phrases={shown?.sentence ?? inherited(target)} pale={!target.own && !shown} open={open} onOpen={setOpen} />
        <p className="mt-1 min-h-6 text-sm text-soft">
          {shown?.sentence
            ? "Not active yet. This is what you have selected."
            : target.own
              ? `Set by ${target.says.name}. Select an underlined word to change it.`
              : `Inherited from ${target.says.name}. Select an underlined word to set it here.`}
        </p>
        {target.worry && <p className="mt-1 text-ask">Visitors who aren't signed in can see this: it {target.worry}.</p>}
      </div>
      {open && (
        <Choices
          about={open}
          target={target}
          choice={c}
          terms={c.terms ?? { who: "signed-in" }}
          roles={doors.data?.roles ?? []}
          rings={rings.data?.filter((k) => !k.gone).map((k) => k.name) ?? []}
          shared={shared.data?.filter((s) => !s.gone).map((s) => s.name) ?? []}
          passes={passes.data?.filter((k) => !k.gone).map((k) => k.name) ?? []}
          onChange={set}
          onClose={() => setOpen("")}
        />
      )}
      {!target.pattern && writable(target.title) !== target.title && (
        <p className="text-sm text-soft">
          Its name contains characters that a policy can only write as *, so the door matches <code>{writable(target.title)}</code>.
        </p>
      )}
      {!c.terms && !removing && (
        <p className="text-sm text-soft">
          This door has settings that can't be changed here. If you select who may go there, that replaces all of them. To edit its text,
          use the Policy page.
        </p>
      )}
      {empty && (
        <div className="flex flex-col gap-3">
          <h3 className="font-bold">First name and password</h3>
          <label className="flex flex-col gap-1 text-sm text-soft">
            Username
            <input
              aria-label="First name"
              className={`${field} w-64 text-base`}
              placeholder="visitor"
              value={entry.name}
              onChange={(e) => setEntry({ ...entry, name: e.target.value })}
              spellCheck={false}
              autoCapitalize="none"
              autoComplete="off"
            />
          </label>
          <NewSecret name={entry.name} value={entry.password} onChange={(password) => setEntry((was) => ({ ...was, password }))} />
        </div>
      )}
      {unset && (
        <div className="flex flex-col gap-3">
          <h3 className="font-bold">The shared password</h3>
          <NewSecret
            name={unset === make ? c.newShared.name : unset}
            value={entry.password}
            onChange={(password) => setEntry((was) => ({ ...was, password }))}
          />
        </div>
      )}
      {made && edits.length === 0 && (
        <Applied
          made={made}
          page={target.page}
          url={url}
          busy={act.busy}
          onUndo={() =>
            act.run(async () => {
              await rollBack(made.before, false);
              setMade(undefined);
              return "Undone.";
            })
          }
        />
      )}
      {preview.error && edits.length > 0 && (
        <p role="alert" className="text-bad">
          {preview.error.message}
        </p>
      )}
      {shown && !preview.error && (
        <>
          {removing && <p>Without its own door, {where} follows the door above it.</p>}
          {!empty &&
            !unset &&
            shown.remarks?.map((r) => (
              <p key={r} className="text-ask">
                {r}
              </p>
            ))}
          {known.length > 0 && !removing && (
            <div>
              <h3 className="font-bold">Exceptions below are kept</h3>
              <ul className="text-sm">
                {known.map((e) => (
                  <li key={labelOf(e)} className="border-b border-line py-1.5">
                    <span className="wrap-anywhere">{e.sentence}</span>{" "}
                    <label className="inline-flex items-center gap-1.5 whitespace-nowrap text-soft">
                      <input
                        type="checkbox"
                        className="h-4 w-4 accent-brass"
                        checked={c.include.includes(labelOf(e))}
                        onChange={(x) =>
                          set({ include: x.target.checked ? [...c.include, labelOf(e)] : c.include.filter((l) => l !== labelOf(e)) })
                        }
                      />{" "}
                      include it (removes its own door)
                    </label>
                  </li>
                ))}
              </ul>
            </div>
          )}
          <div aria-live="polite">
            <h3 className="font-bold">What changes</h3>
            {shown.changed ? <OpensAndCloses compared={shown.compared} /> : <p className="text-soft">No changes.</p>}
            {broken.map((g) => (
              <p key={`${g.line} ${g.path}`} className="mt-2 text-bad">
                This can't be applied: it breaks a guarantee (line {g.line}). <code>{g.path}</code> {g.says}.
                {g.because && ` Reason: ${g.because}.`}
              </p>
            ))}
          </div>
          {shown.lines && <Lines text={shown.lines} />}
        </>
      )}
      <div className="flex flex-wrap items-center gap-2">
        {shown && !preview.error && (
          <button
            type="button"
            className={primary}
            disabled={!ready || broken.length > 0 || act.busy || nameless}
            onClick={() => (opened.length > 0 ? setAsking(true) : apply())}
          >
            {does}
          </button>
        )}
        {(edits.length > 0 || open) && (
          <button type="button" className={plain} onClick={clear}>
            Cancel
          </button>
        )}
        {own && edits.length === 0 && !open && (
          <button type="button" className={takes} onClick={() => setRemoving(true)}>
            Remove this door …
          </button>
        )}
        {nameless && shown && <span className="text-sm text-soft">Enter a username.</span>}
      </div>
      {!asking && <Said act={act} />}
      <Ask
        question={asking ? `${does}?` : undefined}
        text={
          opened.length
            ? `${removing || !c.terms ? "Visitors" : admitted[c.terms.who].people} can then get in where they couldn't before: ` +
              `${opened[0]!.witness.path} (as ${opened[0]!.witness.visitor})${opened.length > 1 ? ` and ${opened.length - 1} more` : ""}.`
            : ""
        }
        yes={does}
        busy={act.busy}
        error={act.error}
        onYes={apply}
        onNo={() => {
          act.reset();
          setAsking(false);
        }}
      />
    </section>
  );
}
