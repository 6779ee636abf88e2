import { key } from "../parts/keys";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { about } from "../messages/kinds";
import { listKinds } from "../messages/queries";
import { useSettled } from "../parts/hooks";
import { Copy } from "../parts/secret";
import { Broken, Heading, Loading } from "../parts/states";
import { field, small } from "../parts/styles";
import type { Palette } from "../schema";
import { getLooks, mailAt, pageAt, type Tried } from "./queries";

const colours = ["accent", "paper", "ink"] as const;
const parts: Record<string, string> = { accent: "buttons and links", paper: "background", ink: "text" };
const pageNames: Record<string, string> = {
  "sign-in": "sign in",
  "sign-in-wrong": "wrong password",
  join: "create an account",
  recover: "forgotten password",
  "set-password": "set a password",
  "second-factor": "second factor",
  "prove-again": "confirm your password",
  account: "your account",
  factors: "passkeys and codes",
  "kept-codes": "backup codes, shown once",
  "turned-away": "access denied",
  missing: "not found",
  "signed-out": "signed out",
};

// Each page and mail that people meet, in both languages, in light and dark, on desk and phone; and colours to try out.
export function LooksPage() {
  const [tried, setTried] = useState<Tried>({});
  const [what, setWhat] = useState("page sign-in");
  const [language, setLanguage] = useState("en");
  const [scheme, setScheme] = useState<"light" | "dark">("light");
  const [phone, setPhone] = useState(false);
  const settled = useSettled(tried, 150);
  const looks = useQuery({ queryKey: key("looks", settled), queryFn: () => getLooks(settled), placeholderData: keepPreviousData });
  const kinds = useQuery({ queryKey: key("message kinds"), queryFn: listKinds });
  if (looks.isPending || kinds.isPending) return <Loading what="the looks" />;
  const error = looks.error ?? kinds.error;
  if (error || !looks.data || !kinds.data) return <Broken what="looks" error={error!} retry={() => looks.refetch()} />;
  const [sort, name] = what.split(" ");
  const mail = sort === "mail";
  const src = (mail ? mailAt : pageAt)(name, { ...settled, language, scheme: mail ? "light" : scheme });
  const lines = yaml(tried, looks.data.light, looks.data.dark);
  const faults = looks.data.faults ?? [];
  return (
    <>
      <Heading title="Looks">
        All pages and e-mails that visitors see, in each language. Try colors here, then copy them to the policy under looks.
      </Heading>
      <div className="grid grid-cols-[minmax(0,1fr)] gap-8 lg:grid-cols-[18rem_minmax(0,1fr)]">
        <div className="flex flex-col gap-5">
          <label className="flex flex-col gap-1 text-sm text-soft">
            Page or e-mail
            <select className={`${field} max-w-full`} value={what} onChange={(e) => setWhat(e.target.value)}>
              <optgroup label="Pages">
                {looks.data.pages.map((p) => (
                  <option key={p} value={`page ${p}`}>
                    {pageNames[p] ?? p}
                  </option>
                ))}
              </optgroup>
              <optgroup label="E-mails">
                {kinds.data.map((k) => (
                  <option key={k} value={`mail ${k}`}>
                    {about(k)}
                  </option>
                ))}
              </optgroup>
            </select>
          </label>
          <Choice
            label="Language"
            value={language}
            onChoose={setLanguage}
            all={[
              ["en", "English"],
              ["de", "Deutsch"],
            ]}
          />
          {!mail && (
            <Choice
              label="Scheme"
              value={scheme}
              onChoose={(s) => setScheme(s as typeof scheme)}
              all={[
                ["light", "light"],
                ["dark", "dark"],
              ]}
            />
          )}
          <Choice
            label="Screen"
            value={phone ? "phone" : "desk"}
            onChoose={(s) => setPhone(s === "phone")}
            all={[
              ["desk", "desk"],
              ["phone", "phone"],
            ]}
          />
          <Colours legend="Light pages and e-mails" prefix="" palette={looks.data.light} tried={tried} onTry={setTried} />
          <Colours legend="Dark pages" prefix="dark-" palette={looks.data.dark} tried={tried} onTry={setTried} />
          <p role="status" className="min-h-6 text-sm">
            {faults.length === 0 ? (
              <span className="text-good">✓ All text is readable.</span>
            ) : (
              faults.map((f) => (
                <span key={f.scheme + f.what} className="block text-bad">
                  ✕ In {f.scheme} pages {f.what} has a contrast ratio of {f.ratio.toFixed(1)} to 1; text needs at least 4.5.
                </span>
              ))
            )}
          </p>
          {lines && (
            <section>
              <div className="flex items-center justify-between gap-3">
                <h2 className="text-sm text-soft">For the policy</h2>
                <span className="flex gap-2">
                  <Copy text={lines} />
                  <button type="button" className={small} onClick={() => setTried({})}>
                    Reset
                  </button>
                </span>
              </div>
              <pre className="mt-1 overflow-x-auto rounded border border-line bg-sheet p-3 text-sm">{lines}</pre>
              <p className="mt-1 text-sm text-soft">
                Copy this to the{" "}
                <Link className="underline" to="/policy">
                  policy
                </Link>
                .
              </p>
            </section>
          )}
        </div>
        <div className="min-w-0 overflow-x-auto" role="region" aria-label="The page as visitors see it, wider than a phone" tabIndex={0}>
          <iframe
            key={src}
            className="h-[46rem] max-w-none border border-line bg-white"
            style={{ width: phone ? 390 : "100%", minWidth: phone ? 390 : "40rem" }}
            title="The page as visitors see it"
            src={src}
          />
        </div>
      </div>
    </>
  );
}

function Choice({
  label,
  value,
  all,
  onChoose,
}: {
  label: string;
  value: string;
  all: [string, string][];
  onChoose: (value: string) => void;
}) {
  return (
    <div role="group" aria-label={label} className="flex flex-wrap items-center gap-1">
      <span className="w-20 text-sm text-soft">{label}</span>
      {all.map(([key, text]) => (
        <button
          key={key}
          type="button"
          className={`${small} ${value === key ? "bg-hover font-bold" : ""}`}
          aria-pressed={value === key}
          onClick={() => onChoose(key)}
        >
          {text}
        </button>
      ))}
    </div>
  );
}

function Colours({
  legend,
  prefix,
  palette,
  tried,
  onTry,
}: {
  legend: string;
  prefix: string;
  palette: Palette;
  tried: Tried;
  onTry: (t: Tried) => void;
}) {
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-soft">{legend}</legend>
      {colours.map((c) => (
        <label key={c} className="flex items-center gap-3 py-0.5">
          <input
            type="color"
            className="h-7 w-10 cursor-pointer border border-line bg-sheet"
            value={tried[prefix + c] ?? palette[c]}
            onChange={(e) => onTry({ ...tried, [prefix + c]: e.target.value })}
          />
          <span>
            {c} <span className="text-sm text-soft">{parts[c]}</span>
          </span>
          <code className="ml-auto text-sm">{tried[prefix + c] ?? palette[c]}</code>
        </label>
      ))}
    </fieldset>
  );
}

// The lines of the policy that say what was tried; "" for nothing.
function yaml(tried: Tried, light: Palette, dark: Palette) {
  const said = (prefix: string, palette: Palette) => colours.map((c) => `${c}: "${tried[prefix + c] ?? palette[c]}"`).join(", ");
  const has = (prefix: string) => colours.some((c) => tried[prefix + c]);
  if (!has("") && !has("dark-")) return "";
  const all = [];
  if (has("")) all.push(said("", light));
  if (has("dark-")) all.push(`dark: { ${said("dark-", dark)} }`);
  return `looks: { ${all.join(", ")} }`;
}
