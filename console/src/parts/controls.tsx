import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { useEffect, useState } from "react";

// The controls that pages share.

export const button = "cursor-pointer rounded px-4 py-1.5 font-bold disabled:cursor-not-allowed disabled:opacity-50";
export const primary = `${button} bg-brass text-on-brass`;
export const plain = `${button} border border-line hover:bg-hover`;
export const small = "cursor-pointer rounded border border-line px-2.5 py-0.5 text-sm hover:bg-hover disabled:opacity-50";
export const field = "rounded border border-line bg-sheet px-3 py-1.5 text-ink placeholder:text-soft";

// A value that follows another when it has not changed for a while.
export function useSettled<T>(value: T, milliseconds: number): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(JSON.parse(text)), milliseconds);
    return () => clearTimeout(timer);
  }, [text, milliseconds]);
  return settled;
}

export const when = (at: string) => new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });

export function ago(at: string): string {
  const minutes = Math.floor((Date.now() - new Date(at).getTime()) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 120) return `${minutes} min ago`;
  if (minutes < 48 * 60) return `${Math.floor(minutes / 60)} h ago`;
  return `${Math.floor(minutes / 60 / 24)} days ago`;
}

// A panel at the right edge, for one thing of a list.
export function Drawer({ open, title, onClose, children }: { open: boolean; title: React.ReactNode; onClose: () => void; children: React.ReactNode }) {
  return (
    <Dialog open={open} onClose={onClose} className="relative z-20">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-y-0 right-0 flex w-full max-w-xl">
        <DialogPanel className="w-full overflow-y-auto border-l border-line bg-sheet p-7">
          <div className="flex items-start justify-between gap-4">
            <DialogTitle className="text-lg font-bold wrap-anywhere">{title}</DialogTitle>
            <button type="button" className={small} onClick={onClose}>
              Close
            </button>
          </div>
          <div className="mt-5">{children}</div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}

// A question before something that cannot be undone.
export function Ask({ question, text, yes, busy, error, onYes, onNo }: { question?: string; text: string; yes: string; busy: boolean; error?: Error | null; onYes: () => void; onNo: () => void }) {
  return (
    <Dialog open={!!question} onClose={onNo} className="relative z-30">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-4">
        <DialogPanel className="max-w-md rounded border border-line bg-sheet p-6">
          <DialogTitle className="text-lg font-bold wrap-anywhere">{question}</DialogTitle>
          <p className="mt-2">{text}</p>
          {error && (
            <p role="alert" className="mt-2 text-bad">
              {error.message}
            </p>
          )}
          <div className="mt-5 flex gap-2">
            <button type="button" className={primary} disabled={busy} onClick={onYes}>
              {yes}
            </button>
            <button type="button" className={plain} onClick={onNo}>
              Leave it
            </button>
          </div>
        </DialogPanel>
      </div>
    </Dialog>
  );
}

// The end of a form: what went wrong, and the two ways on.
export function FormEnd({ yes, busy, error, onNo }: { yes: string; busy: boolean; error: Error | null; onNo: () => void }) {
  return (
    <>
      {error && (
        <p role="alert" className="text-bad">
          {error.message}
        </p>
      )}
      <div className="flex gap-2">
        <button type="submit" className={primary} disabled={busy}>
          {yes}
        </button>
        <button type="button" className={plain} onClick={onNo}>
          Leave it
        </button>
      </div>
    </>
  );
}

// What a form has added, with a secret that is shown this once.
export function Added({ name, secret, onDone }: { name: string; secret?: { label: string; text: string }; onDone: () => void }) {
  return (
    <div className="flex flex-col gap-4">
      <p className="text-good" role="status">
        {name} is added.
      </p>
      {secret && <Secret {...secret} />}
      <div>
        <button type="button" className={plain} onClick={onDone}>
          Done
        </button>
      </div>
    </div>
  );
}

// Which part of a long list is shown, and the way to the next.
export function Pager({ offset, shown, total, onMove }: { offset: number; shown: number; total: number; onMove: (offset: number) => void }) {
  if (total <= shown && offset === 0) return null;
  return (
    <div className="mt-4 flex items-center gap-3 text-sm text-soft">
      <button type="button" className={small} disabled={offset === 0} onClick={() => onMove(Math.max(0, offset - 50))}>
        Before
      </button>
      <span>
        {(offset + 1).toLocaleString()} to {(offset + shown).toLocaleString()} of {total.toLocaleString()}
      </span>
      <button type="button" className={small} disabled={offset + shown >= total} onClick={() => onMove(offset + 50)}>
        After
      </button>
    </div>
  );
}

// Shows a secret once, with a way to keep it.
export function Secret({ label, text }: { label: string; text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <div className="rounded border border-line bg-paper p-3">
      <p className="text-sm text-soft">{label}</p>
      <div className="mt-1 flex flex-wrap items-center gap-3">
        <code className="wrap-anywhere" data-testid="secret">
          {text}
        </code>
        <button
          type="button"
          className={small}
          onClick={() =>
            navigator.clipboard
              .writeText(text)
              .then(() => setCopied(true))
              .catch(() => setCopied(false))
          }
        >
          {copied ? "Copied" : "Copy"}
        </button>
      </div>
    </div>
  );
}
