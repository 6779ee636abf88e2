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

// It is active: the password, shown only once, a check as a visitor who isn't signed in, and the way back.
export function Applied({ made, page, url, busy, onUndo }: { made: Made; page: string; url: string; busy: boolean; onUndo: () => void }) {
  return (
    <div className="flex flex-col gap-3 border-l-4 border-good pl-4" role="status">
      <p className="text-good">Applied. It is active now.</p>
      {made.trouble && <p className="text-bad">{made.trouble}</p>}
      {made.shared && (
        <>
          <Secret label={`The password of ${made.shared.title}, shown only once. Save it now.`} text={made.shared.password} />
          <p className="text-soft">
            The{" "}
            <Link className="underline underline-offset-2" to="/shared">
              Shared passwords
            </Link>{" "}
            page can send it to people and change it.
          </p>
        </>
      )}
      {made.passes && (
        <p className="text-soft">
          Visitors need a pass to go there. Issue it on the{" "}
          <Link className="underline underline-offset-2" to="/passes">
            Passes
          </Link>{" "}
          page.
        </p>
      )}
      {made.secret && <Handover address={url + page} {...made.secret} />}
      <div className="flex flex-wrap gap-2">
        {page && (
          <>
            <Link className={plain} to={`/try?${new URLSearchParams({ method: "GET", url: page, as: "anonymous", client: "browser" })}`}>
              Check as a visitor who isn't signed in
            </Link>
            <a className={plain} href={url + page} target="_blank" rel="noreferrer">
              Open page
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
