import { Finished } from "../parts/form";
import { Copy } from "../parts/secret";
import type { IssuedPass } from "../schema";

// The credentials of a pass, shown this once.
export function Issued({ pass: p, what, onDone }: { pass: IssuedPass; what: string; onDone: () => void }) {
  return (
    <Finished
      said={`${what} ${p.mailed ? `A message was sent to ${p.recipient}.` : "No e-mail was sent: send the text below yourself."}`}
      onDone={onDone}
    >
      <div className="flex flex-col gap-3 rounded border border-line bg-paper p-3">
        <p className="text-sm text-soft">
          This is shown only once. The link opens a page with one button. The name and password are for download programs.
        </p>
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
        {p.letter && (
          <div>
            <p className="flex flex-wrap items-center gap-3 text-sm text-soft">
              Text to send <Copy text={p.letter.text} />
            </p>
            <pre className="mt-1 max-h-72 overflow-auto rounded border border-line p-2 text-sm whitespace-pre-wrap wrap-anywhere">
              {p.letter.text}
            </pre>
          </div>
        )}
      </div>
    </Finished>
  );
}
