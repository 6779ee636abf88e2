import { Secret } from "./secret";
import { plain, primary } from "./styles";

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
          Cancel
        </button>
      </div>
    </>
  );
}

// The end of what was asked for: what came of it, what there is to see, and the way back.
export function Finished({
  said,
  onDone,
  children,
  also,
}: {
  said: React.ReactNode;
  onDone: () => void;
  children?: React.ReactNode;
  also?: React.ReactNode;
}) {
  return (
    <div className="flex flex-col gap-4">
      <p className="text-good" role="status">
        {said}
      </p>
      {children}
      <div className="flex flex-wrap gap-2">
        {also}
        <button type="button" className={plain} onClick={onDone}>
          Done
        </button>
      </div>
    </div>
  );
}

// What a form has added, with a secret that is shown this once.
export function Added({
  name,
  secret,
  onDone,
  children,
}: {
  name: string;
  secret?: { label: string; text: string };
  onDone: () => void;
  children?: React.ReactNode;
}) {
  return (
    <Finished said={`${name} is added.`} onDone={onDone}>
      {secret && <Secret {...secret} />}
      {children}
    </Finished>
  );
}
