import { Finished } from "../parts/form";
import { Copy } from "../parts/secret";
import type { IssuedPass } from "../schema";

// The credentials of a pass, shown this once.
export function Issued({ pass: p, what, onDone }: { pass: IssuedPass; what: string; onDone: () => void }) {
  return (
    <Finished said={`${what} ${p.mailed ? `A message is on its way to ${p.recipient}.` : "It was not mailed: pass it on yourself."}`} onDone={onDone}>
      <div className="flex flex-col gap-3 rounded border border-line bg-paper p-3">
        <p className="text-sm text-soft">Shown this once. The link opens a page with one button; the name and password are for programs that download.</p>
        {[
          { label: "Link", text: p.link },
          { label: "Name", text: p.user },
          { label: "Password", text: p.password },
        ].map((one) => (
          <div key={one.label}>
            <p className="text-sm text-soft">{one.label}</p>
            <div className="flex flex-wrap items-center gap-3">
              <code className="wrap-anywhere" data-testid={one.label.toLowerCase()}>
                {one.text}
              </code>
              <Copy text={one.text} />
            </div>
          </div>
        ))}
      </div>
    </Finished>
  );
}
