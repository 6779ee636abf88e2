import { redirect, redirectDocument } from "react-router";
import { useEffect, useState } from "react";
import { here, lead, may, type Me, watch } from "/door/client.js";

// A guard for the routes of React Router: before a page is shown, the doorkeeper is asked.
export async function guarded({ request }: { request: Request }) {
  const { pathname, search } = new URL(request.url);
  const to = await lead(pathname + search, { refused: "/desk/refused?at=" + encodeURIComponent(pathname) });
  if (!to) return null;
  // Who is not signed in gets the desk's own form, and comes back to the route.
  if (to.startsWith("/door/sign-in")) throw redirect("/desk?next=" + encodeURIComponent(pathname + search));
  throw to.startsWith("/desk") ? redirect(to) : redirectDocument(to);
}

// Who is here, also when that changes in another tab.
export function useMe(): Me | undefined {
  const [me, setMe] = useState<Me>();
  useEffect(() => {
    here().then(setMe, () => {});
    return watch(setMe);
  }, []);
  return me;
}

// What is typed and not sent yet keeps its page, also when the session ends.
export const typing = { something: false };

// Which of some addresses are open to whoever is here.
export function useOpen(addresses: string[], me: Me | undefined): Record<string, boolean> {
  const [open, setOpen] = useState<Record<string, boolean>>({});
  useEffect(() => {
    let current = true;
    may(addresses).then(
      (places) => current && setOpen(Object.fromEntries(places.map((p) => [p.path, p.may]))),
      () => {},
    );
    return () => void (current = false);
  }, [addresses, me]);
  return open;
}
