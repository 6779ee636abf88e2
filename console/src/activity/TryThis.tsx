import { useNavigate } from "react-router";
import { getPerson } from "../people/queries";
import type { ActivityRecord } from "../schema";

// As a refusal is recorded: as whom somebody came, and which version of the policy decided.
const recorded = /; came as (.+); version (\d+)$/;

/** The detail of a record for people: without what only "Why?" is asked with. */
export const detailOf = (e: ActivityRecord) => e.detail?.replace(recorded, "");

/** The way from a refusal to Try: the same request, judged by what was known then; for older records, by what is known now. */
export function TryThis({ event: e }: { event: ActivityRecord }) {
  const navigate = useNavigate();
  const [method, at] = e.place?.split(" ") ?? [];
  if (!at) return null;
  const go = async () => {
    const url = at.startsWith("/") ? at : `https://${at}`;
    const then = recorded.exec(e.detail ?? "");
    if (then) {
      navigate("/try?" + new URLSearchParams({ method, url, as: then[1]!, version: then[2]! }));
      return;
    }
    const roles = e.account
      ? await getPerson(e.account).then(
          (p) => p.roles,
          () => [],
        )
      : [];
    const as = e.account ? [`user:${e.account}`, ...(roles.length > 0 ? [`role:${roles.join("+")}`] : [])].join(",") : "anonymous";
    navigate("/try?" + new URLSearchParams({ method, url, as }));
  };
  return (
    <button
      type="button"
      className="cursor-pointer text-sm underline"
      onClick={go}
      aria-label={`Why? ${e.place}, ${e.account || "a visitor who isn't signed in"}`}
    >
      Why?
    </button>
  );
}
