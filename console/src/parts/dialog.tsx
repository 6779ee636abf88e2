import { Dialog, DialogPanel, DialogTitle } from "@headlessui/react";
import { plain, primary, small, taking } from "./styles";

// A panel at the right edge, for one thing of a list.
export function Drawer({
  open,
  title,
  onClose,
  children,
}: {
  open: boolean;
  title: React.ReactNode;
  onClose: () => void;
  children: React.ReactNode;
}) {
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

// A panel in the middle, before everything else.
export function Panel({
  open,
  title,
  onClose,
  children,
}: {
  open: boolean;
  title: React.ReactNode;
  onClose: () => void;
  children: React.ReactNode;
}) {
  return (
    <Dialog open={open} onClose={onClose} className="relative z-30">
      <div className="fixed inset-0 bg-black/40" aria-hidden="true" />
      <div className="fixed inset-0 flex items-center justify-center p-4">
        <DialogPanel className="w-full max-w-md rounded border border-line bg-sheet p-6">
          <DialogTitle className="text-lg font-bold wrap-anywhere">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  );
}

// A question before something that takes access or cannot be undone, unless it gives. What went wrong is told here, and goes with it.
export function Ask({
  question,
  text,
  yes,
  gives,
  busy,
  error,
  onYes,
  onNo,
}: {
  question?: string;
  text: string;
  yes: string;
  gives?: boolean;
  busy: boolean;
  error?: Error | null;
  onYes: () => void;
  onNo: () => void;
}) {
  return (
    <Panel open={!!question} title={question} onClose={onNo}>
      <p className="mt-2">{text}</p>
      {error && (
        <p role="alert" className="mt-2 text-bad">
          {error.message}
        </p>
      )}
      <div className="mt-5 flex gap-2">
        <button type="button" className={gives ? primary : taking} disabled={busy} onClick={onYes}>
          {yes}
        </button>
        <button type="button" className={plain} onClick={onNo}>
          Cancel
        </button>
      </div>
    </Panel>
  );
}
