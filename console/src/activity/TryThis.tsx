import { useNavigate } from "react-router";
import { getPerson } from "../people/queries";
import type { Event } from "../schema";

/** The way from a refusal to Try: the same request, by the same account with the roles that it has now. */
export function TryThis({ event: e }: { event: Event }) {
  const navigate = useNavigate();
  const [method, at] = e.place?.split(" ") ?? [];
  if (!at) return null;
  const go = async () => {
    const roles = e.account ? await getPerson(e.account).then((p) => p.roles, () => []) : [];
    const as = e.account ? [`user:${e.account}`, ...(roles.length > 0 ? [`role:${roles.join("+")}`] : [])].join(",") : "anonymous";
    navigate("/try?" + new URLSearchParams({ method, url: at.startsWith("/") ? at : `https://${at}`, as }));
  };
  return (
    <button type="button" className="cursor-pointer text-sm underline" onClick={go} aria-label={`Why? ${e.place}, ${e.account || "a stranger"}`}>
      Why?
    </button>
  );
}
