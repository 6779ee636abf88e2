import { Link } from "react-router";
import { Secret } from "../parts/secret";
import { plain } from "../parts/styles";
import { Handover } from "../passwords/Handover";

// What has been applied: the version before it, and the first name of a keyring with its password.
export interface Made {
  before: number;
  secret?: { name: string; password: string; word: string };
  shared?: { title: string; password: string };
  passes?: boolean; // holders of a pass may go there
  trouble?: string;
}

// It is in force: the password this once, a look at it as a stranger, and the way back.
export function Applied({ made, page, url, busy, onUndo }: { made: Made; page: string; url: string; busy: boolean; onUndo: () => void }) {
  return (
    <div className="flex flex-col gap-3 border-l-4 border-good pl-4" role="status">
      <p className="text-good">It is in force.</p>
      {made.trouble && <p className="text-bad">{made.trouble}</p>}
      {made.shared && (
        <>
          <Secret label={`The password of ${made.shared.title}, shown this once. Keep it now.`} text={made.shared.password} />
          <p className="text-soft">
            The page{" "}
            <Link className="underline underline-offset-2" to="/shared">
              Shared passwords
            </Link>{" "}
            mails it to people, and changes it.
          </p>
        </>
      )}
      {made.passes && (
        <p className="text-soft">
          Whoever is to go there needs a pass. The page{" "}
          <Link className="underline underline-offset-2" to="/passes">
            Passes
          </Link>{" "}
          issues them.
        </p>
      )}
      {made.secret && <Handover address={url + page} {...made.secret} />}
      <div className="flex flex-wrap gap-2">
        {page && (
          <>
            <Link className={plain} to={`/try?${new URLSearchParams({ method: "GET", url: page, as: "anonymous", client: "browser" })}`}>
              See it as a stranger
            </Link>
            <a className={plain} href={url + page} target="_blank" rel="noreferrer">
              Open it
            </a>
          </>
        )}
        <button type="button" className={plain} disabled={busy} onClick={onUndo}>
          Undo
        </button>
      </div>
    </div>
  );
}
