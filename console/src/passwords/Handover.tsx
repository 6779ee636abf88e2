import { Copy } from "../parts/secret";

// A name and its password, shown once, with the two texts that people paste into messages: where and as whom, and
// the password by another way.
export function Handover({ address, name, password, word }: { address: string; name: string; password: string; word: string }) {
  const texts = [
    { label: "First message: address and name", text: `${address}\nName: ${name}` },
    { label: "Second message: password. Send it by another channel", text: `Password: ${password}` },
  ];
  return (
    <div className="flex flex-col gap-3 rounded border border-line bg-paper p-3">
      <p className="text-sm text-soft">
        The password of {name}, shown only once ({word}). Keep it now, in a password manager or on paper.
      </p>
      <div className="flex flex-wrap items-center gap-3">
        <code className="wrap-anywhere" data-testid="secret">
          {password}
        </code>
        <Copy text={password} />
      </div>
      {texts.map((t) => (
        <div key={t.label}>
          <p className="flex flex-wrap items-center gap-3 text-sm text-soft">
            {t.label} <Copy text={t.text} />
          </p>
          <pre className="mt-1 rounded border border-line p-2 text-sm whitespace-pre-wrap wrap-anywhere">{t.text}</pre>
        </div>
      ))}
    </div>
  );
}
