import { Link } from "react-router";
import type { Door } from "../schema";

// A door in the policy's words.

export function Where({ door }: { door: Door }) {
  return (
    <code>
      {door.host && <span className="text-soft">{door.host}</span>}
      {door.path}
    </code>
  );
}

export function Admits({ door }: { door: Door }) {
  return (
    <span title={door.sentence.map((p) => p.text).join("")}>
      <code className={door.admit === "public" ? "text-good" : ""}>{door.admit}</code>
      {door.basic && <span className="ml-2 text-sm text-soft">asked for with HTTP Basic</span>}
    </span>
  );
}

export function Otherwise({ door }: { door: Door }) {
  if (!door.anonymous && !door.refused) return <span className="text-soft">–</span>;
  if (door.anonymous === door.refused) return <code>{door.refused}</code>;
  return (
    <>
      {door.anonymous && (
        <div>
          <span className="text-soft">not signed in</span> {door.anonymous}
        </div>
      )}
      {door.refused && (
        <div>
          <span className="text-soft">not allowed</span> {door.refused}
        </div>
      )}
    </>
  );
}

export function TryLink({ door }: { door: Door }) {
  const address =
    (door.host ? `http://${door.host.replace("*", "any")}` : "") +
    door.path
      .replace(/\/\*\*/g, "/")
      .replace(/\*/g, "x")
      .replace(/\/{2,}/g, "/");
  const query = new URLSearchParams({ method: door.methods[0] ?? "GET", url: address });
  return (
    <Link className="text-brass underline" to={`/try?${query}`} aria-label={`Try ${door.path}`}>
      Try
    </Link>
  );
}

// Leads to where a door is changed or removed.
export function ChangeLink({ door }: { door: Door }) {
  if (door.line === 0 || door.check) return null;
  const place = door.path.replace(/\/?\*.*$/, "") || "/";
  return (
    <Link
      className="text-brass underline"
      to={`/site?${new URLSearchParams({ place, door: door.label })}`}
      aria-label={`Change ${door.path}`}
    >
      Change
    </Link>
  );
}
