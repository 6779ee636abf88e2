import { key } from "../parts/keys";
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { getDoors } from "../doors/queries";
import { Said, useAct } from "../parts/act";
import { useSettled } from "../parts/hooks";
import { Heading } from "../parts/states";
import { field, plain } from "../parts/styles";
import { Answer } from "./Answer";
import { explain, walkAs } from "./queries";

const methods = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"];
const clients = [
  { value: "browser", label: "a browser, for a page" },
  { value: "script", label: "a page's script" },
  { value: "api", label: "another program" },
];

// What would a visitor get at an address? The address bar keeps the question, so that it
// can be sent to somebody.
export function TryPage() {
  const [params, setParams] = useSearchParams();
  const question = {
    method: params.get("method") ?? "GET",
    url: params.get("url") ?? "/",
    as: params.get("as") ?? "anonymous",
    client: params.get("client") ?? "browser",
    ...(params.has("version") && { version: params.get("version")! }), // that decides; the active one if none is named
  };
  const ask = (change: Partial<typeof question>) => setParams({ ...question, ...change }, { replace: true });
  const { version, ...byActive } = question;
  const settled = useSettled(question, 200);
  const answer = useQuery({
    queryKey: key("explain", settled),
    queryFn: () => explain(settled),
    placeholderData: keepPreviousData,
    retry: false,
  });

  return (
    <>
      <Heading title="Try">See what a visitor would get at an address, and why. Nothing is sent to the site.</Heading>
      <div className="grid grid-cols-[7rem_minmax(11rem,2fr)_minmax(11rem,2fr)_13.5rem] gap-4 max-lg:grid-cols-2 max-sm:grid-cols-1">
        <label className="flex flex-col gap-1 text-sm text-soft">
          Method
          <select className={field} value={question.method} onChange={(e) => ask({ method: e.target.value })}>
            {[...new Set([...methods, question.method])].map((m) => (
              <option key={m}>{m}</option>
            ))}
          </select>
        </label>
        <label className="flex flex-col gap-1 text-sm text-soft">
          Address, as it is sent
          <input
            className={`${field} font-mono`}
            value={question.url}
            onChange={(e) => ask({ url: e.target.value })}
            spellCheck={false}
            autoCapitalize="none"
          />
        </label>
        <VisitorField value={question.as} onChange={(as) => ask({ as })} />
        <label className="flex flex-col gap-1 text-sm text-soft">
          Sent by
          <select className={field} value={question.client} onChange={(e) => ask({ client: e.target.value })}>
            {clients.map((c) => (
              <option key={c.value} value={c.value}>
                {c.label}
              </option>
            ))}
          </select>
        </label>
      </div>
      <section aria-live="polite" className="mt-8 min-h-96 border-t border-line pt-6">
        {answer.error ? (
          <p role="alert" className="max-w-3xl border-l-4 border-bad py-1 pl-4">
            {answer.error.message}
          </p>
        ) : (
          answer.data && (
            <>
              {version && (
                <div className="mb-6 max-w-3xl border-l-4 border-brass py-1 pl-4" data-testid="since">
                  <p>
                    {`Answered by version ${version} of the policy, which was active then. `}
                    {!answer.data.since?.length && "Nothing relevant has changed since."}
                  </p>
                  {answer.data.since?.map((said) => (
                    <p key={said}>{said}</p>
                  ))}
                  <button type="button" className="cursor-pointer text-brass underline" onClick={() => setParams(byActive)}>
                    Use the active policy
                  </button>
                </div>
              )}
              <Answer explanation={answer.data} />
              <WalkAs as={settled.as} at={settled.url} />
              {answer.data.path && (
                <p className="mt-6 max-w-3xl">
                  {answer.data.says}{" "}
                  <Link className="text-brass underline" to={`/site?${new URLSearchParams({ place: answer.data.path })}`}>
                    Change who may go there
                  </Link>
                </p>
              )}
            </>
          )
        )}
      </section>
    </>
  );
}

// The live site in a window of its own, as the visitor sees it.
function WalkAs({ as, at }: { as: string; at: string }) {
  const [changes, setChanges] = useState(false);
  const act = useAct();
  return (
    <div className="mt-6 flex max-w-3xl flex-wrap items-center gap-x-4 gap-y-2">
      <button
        type="button"
        className={plain}
        disabled={act.busy}
        onClick={() =>
          act.run(async () => {
            const walk = await walkAs(as, changes);
            window.open(`${walk.path}?${new URLSearchParams({ next: at.startsWith("/") ? at : "/" })}`, "_blank", "noopener");
            return "The preview opened in a new window. Until you end it, this browser shows the whole site that way.";
          })
        }
      >
        Preview as {as}
      </button>
      <label className="flex items-center gap-2">
        <input type="checkbox" className="accent-brass" checked={changes} onChange={(e) => setChanges(e.target.checked)} />
        Allow changes during this preview
      </label>
      <div className="w-full">
        <Said act={act} />
      </div>
    </div>
  );
}

function VisitorField({ value, onChange }: { value: string; onChange: (who: string) => void }) {
  const doors = useQuery({ queryKey: key("doors"), queryFn: getDoors });
  const offers = ["anonymous", "signed-in", ...(doors.data?.roles ?? []).map((r) => "role:" + r)];
  const known = offers.includes(value);
  const shown = known ? offers : offers.filter((o) => o.includes(value));
  return (
    <div className="flex flex-col gap-1 text-sm text-soft">
      <label htmlFor="visitor">Visitor</label>
      <Combobox immediate value={value} onChange={(who) => onChange(who ?? "anonymous")}>
        <ComboboxInput
          id="visitor"
          className={`${field} font-mono`}
          onChange={(e) => onChange(e.target.value)}
          spellCheck={false}
          autoCapitalize="none"
        />
        <ComboboxOptions
          anchor={{ to: "bottom start", gap: 4 }}
          className="z-10 w-(--input-width) rounded border border-line bg-sheet py-1 font-mono text-sm shadow-lg empty:invisible"
        >
          {shown.map((o) => (
            <ComboboxOption key={o} value={o} className="cursor-pointer px-3 py-1 data-focus:bg-hover data-selected:font-bold">
              {o}
            </ComboboxOption>
          ))}
        </ComboboxOptions>
      </Combobox>
    </div>
  );
}
