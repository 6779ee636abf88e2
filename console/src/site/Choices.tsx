import { useEffect, useRef } from "react";
import { field } from "../parts/styles";
import type { Reply, Terms } from "../schema";
import { make, type Choice, type Target } from "./choice";
import type { About } from "./Sentence";

interface Props {
  target: Target;
  choice: Choice;
  terms: Terms; // of the choice, or where to begin
  roles: string[];
  rings: string[];
  shared: string[]; // the names of shared passwords
  passes: string[]; // the names of kinds of pass
  onChange: (change: Partial<Choice>) => void;
}

const text = "text-base";

// What can be chosen for a word of the sentence.
export function Choices({ about, onClose, ...p }: Props & { about: Exclude<About, "">; onClose: () => void }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    (box.current?.querySelector<HTMLElement>("input:checked") ?? box.current?.querySelector<HTMLElement>("input, select"))?.focus();
  }, [about]);
  const Part = { who: Who, do: Do, where: Where, also: Also, others: Others }[about];
  return (
    // Escape closes it from any of its fields.
    // eslint-disable-next-line jsx-a11y/no-static-element-interactions
    <div
      ref={box}
      className="flex flex-col gap-2 border-l-4 border-brass pl-4"
      data-testid="choices"
      onKeyDown={(e) => {
        if (e.key === "Escape") onClose();
      }}
    >
      <Part {...p} />
    </div>
  );
}

// One of several choices, with what it needs below it while it is the one.
function Radio({
  name,
  label,
  checked,
  onChoose,
  children,
}: {
  name: string;
  label: string;
  checked: boolean;
  onChoose: () => void;
  children?: React.ReactNode;
}) {
  return (
    <div>
      <label className="flex items-center gap-2">
        <input type="radio" name={name} className="h-4 w-4 shrink-0 accent-brass" checked={checked} onChange={onChoose} /> {label}
      </label>
      {checked && children && <div className="mt-2 mb-1 ml-6 flex flex-wrap items-end gap-3">{children}</div>}
    </div>
  );
}

function Named({
  label,
  value,
  onChange,
  wide,
  words,
  hint,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  wide?: boolean;
  words?: boolean;
  hint?: string;
}) {
  return (
    <label className="flex flex-col gap-1 text-sm text-soft">
      {label}
      <input
        className={`${field} ${text} ${wide ? "w-72 max-w-full" : "w-44"}`}
        value={value}
        placeholder={hint}
        onChange={(e) => onChange(e.target.value)}
        spellCheck={!!words}
        autoCapitalize={words ? undefined : "none"}
        autoComplete="off"
      />
    </label>
  );
}

// Some of several names, or one that is to be made.
function Checks({ of, chosen, onChange }: { of: string[]; chosen: string[]; onChange: (names: string[]) => void }) {
  return (
    <div className="flex w-full flex-wrap gap-x-5 gap-y-1">
      {[...of, make].map((n) => (
        <label key={n} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="h-4 w-4 accent-brass"
            checked={chosen.includes(n)}
            onChange={(e) => onChange(e.target.checked ? [...chosen, n] : chosen.filter((other) => other !== n))}
          />{" "}
          {n === make ? "a new one …" : n}
        </label>
      ))}
    </div>
  );
}

function Who({ terms, choice, roles, rings, shared, passes, onChange }: Props) {
  const to = (change: Partial<Terms>) => {
    const t = { ...terms, ...change };
    // What is asked besides holds only of people with an account.
    const account = t.who === "signed-in" || t.who === "role" || t.who === "user";
    onChange({
      terms: account
        ? t
        : { who: t.who, names: t.names, from: t.who === "nobody" ? undefined : t.from, anonymous: t.anonymous, refused: t.refused },
    });
  };
  const radio = (who: Terms["who"], label: string, children?: React.ReactNode) => (
    <Radio name="who" label={label} checked={!!choice.terms && terms.who === who} onChoose={() => to({ who, names: [] })}>
      {children}
    </Radio>
  );
  const names = terms.names ?? [];
  const several = (of: string[]) => <Checks of={of} chosen={names} onChange={(all) => to({ names: all })} />;
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="mb-1 text-sm text-soft">Who may go there</legend>
      {radio("public", "everyone")}
      {radio("signed-in", "everyone who is signed in")}
      {radio(
        "role",
        "people with a role",
        <>
          {several(roles)}
          {names.includes(make) && (
            <Named label="Name of the new role" value={choice.newRole} onChange={(newRole) => onChange({ newRole })} />
          )}
        </>,
      )}
      {radio(
        "user",
        "certain people",
        <Named
          label="Names of accounts"
          wide
          hint="agnes, bram"
          value={names.join(" ")}
          onChange={(all) => to({ names: all.split(/[\s,]/) })}
        />,
      )}
      {radio(
        "keyring",
        "people with a name and password for this place",
        <>
          <label className="flex flex-col gap-1 text-sm text-soft">
            Keyring
            <select
              className={`${field} ${text}`}
              value={names[0] ?? ""}
              onChange={(e) => to({ names: e.target.value ? [e.target.value] : [] })}
            >
              <option value="">which?</option>
              {rings.map((k) => (
                <option key={k}>{k}</option>
              ))}
              <option value={make}>a new one …</option>
            </select>
          </label>
          {names[0] === make && (
            <>
              <Named
                label="Name of the new keyring"
                value={choice.newRing.name}
                onChange={(name) => onChange({ newRing: { ...choice.newRing, name } })}
              />
              <Named
                label="Text in the browser's dialog"
                words
                value={choice.newRing.realm}
                onChange={(realm) => onChange({ newRing: { ...choice.newRing, realm } })}
              />
            </>
          )}
        </>,
      )}
      {radio(
        "shared",
        "people who know a shared password",
        <>
          {several(shared)}
          {names.includes(make) && (
            <>
              <Named
                label="Name of the new shared password"
                value={choice.newShared.name}
                hint="press-kit"
                onChange={(name) => onChange({ newShared: { ...choice.newShared, name } })}
              />
              <Named
                label="Title that visitors see"
                words
                value={choice.newShared.title}
                hint="Press kit"
                onChange={(title) => onChange({ newShared: { ...choice.newShared, title } })}
              />
            </>
          )}
        </>,
      )}
      {radio(
        "pass",
        "people with a pass",
        <>
          {several(passes)}
          {names.includes(make) && (
            <>
              <Named
                label="Name of the new kind of pass"
                value={choice.newPass.name}
                hint="recordings"
                onChange={(name) => onChange({ newPass: { ...choice.newPass, name } })}
              />
              <Named
                label="Title that visitors see"
                words
                value={choice.newPass.title}
                hint="Sound recordings"
                onChange={(title) => onChange({ newPass: { ...choice.newPass, title } })}
              />
            </>
          )}
        </>,
      )}
      {radio("nobody", "nobody")}
    </fieldset>
  );
}

const writing = ["POST", "PUT", "PATCH", "DELETE"];

function Do({ choice, onChange }: Props) {
  const now = choice.methods.join(" ");
  const known = ["", "GET", writing.join(" ")];
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="mb-1 text-sm text-soft">What they may do there. Everything else stays as it is</legend>
      <Radio name="do" label="everything" checked={now === ""} onChoose={() => onChange({ methods: [] })} />
      <Radio name="do" label="only view it (GET)" checked={now === "GET"} onChoose={() => onChange({ methods: ["GET"] })} />
      <Radio
        name="do"
        label="send and change things (POST, PUT, PATCH, DELETE)"
        checked={now === known[2]}
        onChoose={() => onChange({ methods: writing })}
      />
      <Radio name="do" label="other methods" checked={!known.includes(now)} onChoose={() => onChange({ methods: ["POST"] })}>
        <Named label="Methods" value={now} onChange={(all) => onChange({ methods: all.toUpperCase().split(/[\s,]+/) })} />
      </Radio>
    </fieldset>
  );
}

function Where({ target, choice, onChange }: Props) {
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="mb-1 text-sm text-soft">Which places</legend>
      {target.pattern ? (
        <p>
          Everything that matches <code>{target.pattern}</code>. For other places, select them in the tree.
        </p>
      ) : (
        <>
          <Radio
            name="where"
            label={`${target.title} and everything below it`}
            checked={choice.below}
            onChoose={() => onChange({ below: true })}
          />
          <Radio name="where" label={`${target.title} alone`} checked={!choice.below} onChoose={() => onChange({ below: false })} />
        </>
      )}
      <Named
        label="Only on this host, if the site has several"
        hint="www.example.org"
        wide
        value={choice.host}
        onChange={(host) => onChange({ host: host.trim() })}
      />
    </fieldset>
  );
}

function Also({ terms, rings, onChange }: Props) {
  const to = (change: Partial<Terms>) => onChange({ terms: { ...terms, ...change } });
  const account = terms.who === "signed-in" || terms.who === "role" || terms.who === "user";
  return (
    <fieldset className="flex flex-col gap-2">
      <legend className="mb-1 text-sm text-soft">And they must also</legend>
      {account && (
        <>
          <label className="flex flex-wrap items-center gap-2">
            first enter a name and password from
            <select
              aria-label="Keyring in front"
              className={field}
              value={terms.keyring ?? ""}
              onChange={(e) => to({ keyring: e.target.value || undefined })}
            >
              <option value="">nothing more</option>
              {rings.map((k) => (
                <option key={k} value={k}>
                  the keyring {k}
                </option>
              ))}
            </select>
          </label>
          <label className="flex flex-wrap items-center gap-2">
            use a second factor:
            <select
              aria-label="Second factor"
              className={field}
              value={terms.factor ?? ""}
              onChange={(e) => to({ factor: e.target.value || undefined })}
            >
              <option value="">nothing more</option>
              <option value="two">any second factor</option>
              <option value="passkey">a passkey</option>
              <option value="code">a code from their app</option>
            </select>
          </label>
          <label className="flex flex-wrap items-center gap-2">
            <input
              type="checkbox"
              className="h-4 w-4 accent-brass"
              checked={!!terms.within}
              onChange={(e) => to({ within: e.target.checked ? "10m" : undefined })}
            />
            {terms.factor ? "confirm it again after" : "enter the password again after"}
            <input
              aria-label="For how long"
              className={`${field} w-24`}
              value={terms.within ?? "10m"}
              disabled={!terms.within}
              onChange={(e) => to({ within: e.target.value.trim() || undefined })}
            />
          </label>
        </>
      )}
      <Named
        label="Come from this network, such as the office"
        hint="192.0.2.0/24"
        wide
        value={(terms.from ?? []).join(" ")}
        onChange={(all) => to({ from: all.trim() ? all.split(/[\s,]+/) : undefined })}
      />
    </fieldset>
  );
}

function Others({ terms, onChange }: Props) {
  const to = (change: Partial<Terms>) => onChange({ terms: { ...terms, ...change } });
  const account = terms.who === "signed-in" || terms.who === "role" || terms.who === "user";
  return (
    <>
      <Answer
        legend="Visitors who aren't signed in"
        name="anonymous"
        usual={
          terms.who === "nobody"
            ? "see why they can't enter"
            : account && !terms.basic
              ? "are asked to sign in"
              : "are asked for what is missing"
        }
        reply={terms.anonymous}
        asked={!!terms.basic}
        onChange={(anonymous) => to({ anonymous, basic: undefined, realm: undefined })}
      >
        {account && (
          <Radio
            name="anonymous"
            label="are asked by the browser itself (HTTP Basic)"
            checked={!!terms.basic && !terms.anonymous}
            onChoose={() => to({ basic: true, anonymous: undefined })}
          >
            <Named
              label="Text in the browser's dialog"
              words
              value={terms.realm ?? ""}
              onChange={(realm) => to({ realm: realm || undefined })}
            />
          </Radio>
        )}
      </Answer>
      <Answer
        legend="People who are signed in but not allowed"
        name="refused"
        usual="see why, with a reference number"
        reply={terms.refused}
        onChange={(refused) => to({ refused })}
      />
    </>
  );
}

function Answer({
  legend,
  name,
  usual,
  reply,
  asked,
  onChange,
  children,
}: {
  legend: string;
  name: string;
  usual: string;
  reply?: Reply;
  asked?: boolean;
  onChange: (reply?: Reply) => void;
  children?: React.ReactNode;
}) {
  return (
    <fieldset className="flex flex-col gap-1.5">
      <legend className="mb-1 text-sm text-soft">{legend}</legend>
      <Radio name={name} label={usual} checked={!reply && !asked} onChoose={() => onChange(undefined)} />
      {children}
      <Radio name={name} label="go to another page" checked={reply?.go !== undefined} onChoose={() => onChange({ go: "/" })}>
        <Named label="Page on this site" wide value={reply?.go ?? ""} onChange={(go) => onChange({ go })} />
      </Radio>
      <Radio name={name} label="see a text" checked={reply?.say !== undefined} onChoose={() => onChange({ say: "" })}>
        <Named label="Text" wide words value={reply?.say ?? ""} onChange={(say) => onChange({ say })} />
      </Radio>
      <Radio name={name} label="get “not found”" checked={!!reply?.hide} onChoose={() => onChange({ hide: true })} />
    </fieldset>
  );
}
