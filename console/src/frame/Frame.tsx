import { key } from "../parts/keys";
import { Menu, MenuButton, MenuHeading, MenuItem, MenuItems, MenuSection } from "@headlessui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";
import { plain } from "../parts/styles";
import { ProofDialog } from "./ProofDialog";
import { getStatus, me } from "./queries";
import { chooseTheme, chosenTheme, type Theme } from "./theme";
import { Failure, ownPages } from "../wire";

type Groups = { label: string; pages: { to: string; label: string }[] }[];

// The frame around every page: where one is, whose site it is, who is signed in.
export function Frame({ groups }: { groups: Groups }) {
  const pages = groups.flatMap((g) => g.pages);
  const status = useQuery({ queryKey: key("status"), queryFn: getStatus, refetchInterval: 5_000 });
  const who = useQuery({ queryKey: key("me"), queryFn: me });
  const [theme, setTheme] = useState<Theme>(chosenTheme);
  const { pathname } = useLocation();

  const title = [pages.find((p) => p.to === pathname)?.label, status.data?.site, "Ostiarius"].filter(Boolean).join(" · ");
  useEffect(() => {
    document.title = title;
  }, [title]);

  const signedOut = status.error instanceof Failure && (status.error.status === 401 || status.error.status === 403);

  return (
    <div className="mx-auto grid min-h-screen max-w-[88rem] grid-cols-[12.5rem_1fr] max-md:grid-cols-1 max-md:grid-rows-[auto_1fr]">
      <ProofDialog />
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-3">
        Skip to content
      </a>
      <header
        className="sticky top-0 flex h-screen flex-col gap-5 overflow-y-auto border-r border-line px-6 py-6 max-md:static
        max-md:h-auto max-md:flex-row max-md:flex-wrap max-md:items-center max-md:border-r-0 max-md:border-b max-md:py-3"
      >
        <div>
          <p className="flex items-center gap-2 font-bold">
            <img src="../assets/door.svg" alt="" width="22" height="22" /> Ostiarius
          </p>
          <p className="mt-1 min-h-10 text-sm leading-snug text-soft max-md:hidden">{status.data?.site}</p>
        </div>
        <nav aria-label="Console" className="flex flex-col gap-4 max-md:hidden">
          {groups.map((g) => (
            <div key={g.label} className="flex flex-col gap-0.5">
              <p className="text-xs text-soft">{g.label}</p>
              {g.pages.map((p) => (
                <NavLink
                  key={p.to}
                  to={p.to}
                  end
                  className={({ isActive }) =>
                    `-ml-3 rounded px-3 py-0.5 ${isActive ? "bg-hover font-bold" : "text-soft hover:bg-hover hover:text-ink"}`
                  }
                >
                  {p.label}
                </NavLink>
              ))}
            </div>
          ))}
        </nav>
        <Menu as="div" className="md:hidden">
          <MenuButton className={plain}>{pages.find((p) => p.to === pathname)?.label ?? "Pages"} ▾</MenuButton>
          <MenuItems anchor="bottom start" className="z-20 mt-1 w-56 rounded border border-line bg-sheet py-2 shadow-lg">
            {groups.map((g) => (
              <MenuSection key={g.label}>
                <MenuHeading className="px-4 pt-2 text-xs text-soft">{g.label}</MenuHeading>
                {g.pages.map((p) => (
                  <MenuItem key={p.to}>
                    <NavLink
                      to={p.to}
                      end
                      className={({ isActive }) => `block px-4 py-2 data-focus:bg-hover ${isActive ? "font-bold" : ""}`}
                    >
                      {p.label}
                    </NavLink>
                  </MenuItem>
                ))}
              </MenuSection>
            ))}
          </MenuItems>
        </Menu>
        <div className="mt-auto flex flex-col gap-3 text-sm text-soft max-md:mt-0 max-md:ml-auto max-md:flex-row">
          <label className="flex items-center gap-2">
            Theme
            <select
              className="rounded border border-line bg-sheet px-1 py-0.5 text-ink"
              value={theme}
              onChange={(e) => {
                chooseTheme(e.target.value as Theme);
                setTheme(e.target.value as Theme);
              }}
            >
              <option value="system">system</option>
              <option value="light">light</option>
              <option value="dark">dark</option>
            </select>
          </label>
          <form method="post" action={ownPages + "sign-out"} className="flex items-center gap-2">
            <span className="min-w-0 truncate">{who.data?.name}</span>
            <button type="submit" className="cursor-pointer underline hover:text-ink">
              Sign out
            </button>
          </form>
        </div>
      </header>
      <main id="page" className="min-w-0 px-8 py-7 max-md:px-4">
        {signedOut ? (
          <p role="alert">
            Your session has ended.{" "}
            <a className="underline" href={`${ownPages}sign-in?next=${encodeURIComponent(location.pathname)}`}>
              Sign in again
            </a>
          </p>
        ) : (
          <>
            {status.data && status.data.findings.length > 0 && (
              <div role="alert" className="mb-6 border-l-4 border-bad bg-sheet px-4 py-3">
                <p className="font-bold">The policy file has errors, so the previous version stays active.</p>
                <ul className="mt-1 text-sm">
                  {status.data.findings.slice(0, 5).map((f, i) => (
                    <li key={i}>
                      {f.line > 0 && `Line ${f.line}: `}
                      {f.message}
                    </li>
                  ))}
                  {status.data.findings.length > 5 && <li>and {status.data.findings.length - 5} more</li>}
                </ul>
              </div>
            )}
            <Outlet />
          </>
        )}
      </main>
    </div>
  );
}
