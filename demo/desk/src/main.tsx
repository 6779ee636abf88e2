import "./desk.css";
import { type FormEvent, StrictMode, useEffect, useState } from "react";
import { createRoot } from "react-dom/client";
import {
  createBrowserRouter,
  Link,
  NavLink,
  Outlet,
  RouterProvider,
  useBlocker,
  useNavigate,
  useRouteError,
  useSearchParams,
} from "react-router";
import { askBy, byDialogue, DoorError, knock, signIn, signOut, watch } from "/door/client.js";
import { guarded, typing, useMe, useOpen } from "./door";

askBy(byDialogue); // what is missing is asked for over the page, so that nothing typed is lost

const pages = [
  { path: "/desk/shifts", label: "Shifts" },
  { path: "/desk/messages", label: "Messages" },
  { path: "/desk/board", label: "Board" },
];
const addresses = pages.map((p) => p.path);

function Frame() {
  const me = useMe();
  const open = useOpen(addresses, me);
  return (
    <>
      <header>
        <Link className="brand" to="/desk">
          <img src="/assets/mark.svg" alt="" width="36" height="36" /> Volunteers' desk
        </Link>
        <nav aria-label="Desk">
          <ul>
            {pages
              .filter((p) => open[p.path])
              .map((p) => (
                <li key={p.path}>
                  <NavLink to={p.path}>{p.label}</NavLink>
                </li>
              ))}
          </ul>
        </nav>
        <div className="account">
          {me?.signedIn && (
            <>
              <span>{me.name}</span>
              <button type="button" onClick={() => void signOut()}>
                Sign out
              </button>
            </>
          )}
        </div>
      </header>
      <main id="content">
        <Outlet />
      </main>
    </>
  );
}

const problems: Record<string, string> = {
  wrong: "Wrong username or password.",
  missing: "Please enter both.",
  "too-many": "Too many attempts.",
  offline: "No answer. Are you connected?",
};

function Welcome() {
  const me = useMe();
  const navigate = useNavigate();
  const [params] = useSearchParams();
  const [problem, setProblem] = useState("");
  const next = params.get("next") ?? "/desk/shifts";
  if (!me) return <p role="status">Looking who is here …</p>;
  if (me.signedIn)
    return (
      <>
        <h1>Good to see you, {me.name}</h1>
        <p className="lead">What the desk has for you is in the line above.</p>
      </>
    );
  const send = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const fields = new FormData(e.currentTarget);
    try {
      await signIn({ username: String(fields.get("username")), password: String(fields.get("password")) });
      void navigate(next.startsWith("/desk") ? next : "/desk/shifts", { replace: true });
    } catch (error) {
      const { code, message, wait } = error as DoorError;
      setProblem((problems[code] ?? message) + (wait ? ` Please wait ${wait} seconds.` : ""));
    }
  };
  return (
    <>
      <h1>Volunteers' desk</h1>
      <p className="lead">For everybody who gives a tour, a hand or a cake.</p>
      <form onSubmit={send}>
        {problem && <p role="alert">{problem}</p>}
        <p>
          <label htmlFor="username">Name</label>
          <br />
          <input id="username" name="username" autoComplete="username" required />
        </p>
        <p>
          <label htmlFor="password">Password</label>
          <br />
          <input id="password" name="password" type="password" autoComplete="current-password" required />
        </p>
        <button>Come in</button>
      </form>
      <p>
        New here? <a href={me.ways.join ?? "/join-in/"}>Join in</a>.
      </p>
    </>
  );
}

// What an address of the data answers, and how it is changed.
function useData<T>(address: string): [T | undefined, string, (body: unknown) => Promise<boolean>] {
  const [data, setData] = useState<T>();
  const [problem, setProblem] = useState("");
  const take = async (answer: Response) => {
    setProblem(answer.ok ? "" : answer.status === 401 ? "Your session has ended. What you typed is still here." : "That did not work.");
    if (answer.ok) setData((await answer.json()) as T);
    return answer.ok;
  };
  const failed = () => (setProblem("There was no answer. What you typed is still here."), false);
  useEffect(() => {
    knock(address).then(take, failed);
  }, [address]);
  const send = (body: unknown) =>
    knock(address, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) }).then(take, failed);
  return [data, problem, send];
}

function Shifts() {
  const me = useMe();
  const [shifts, problem, send] = useData<{ id: number; when: string; what: string; who: string }[]>("/desk/api/shifts");
  return (
    <>
      <h1>Shifts</h1>
      {problem && <p role="alert">{problem}</p>}
      <table>
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">What</th>
            <th scope="col">Who</th>
          </tr>
        </thead>
        <tbody>
          {shifts?.map((s) => (
            <tr key={s.id}>
              <th scope="row">{s.when}</th>
              <td>{s.what}</td>
              <td>
                {s.who}{" "}
                {(!s.who || s.who === me?.name) && (
                  <button
                    type="button"
                    aria-label={`${s.who ? "Give back" : "Take"}: ${s.what}, ${s.when}`}
                    onClick={() => void send({ id: s.id })}
                  >
                    {s.who ? "Give back" : "Take it"}
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Messages() {
  const [messages, problem, send] = useData<{ by: string; at: string; text: string }[]>("/desk/api/messages");
  const [text, setText] = useState("");
  useEffect(() => {
    typing.something = text !== "";
    return () => void (typing.something = false);
  }, [text]);
  const blocker = useBlocker(text !== ""); // ask before what was typed is left behind
  return (
    <>
      <h1>Messages</h1>
      {problem && <p role="alert">{problem}</p>}
      {blocker.state === "blocked" && (
        <p role="alert">
          Your message is not sent.{" "}
          <button type="button" onClick={() => blocker.proceed()}>
            Leave it
          </button>{" "}
          <button type="button" onClick={() => blocker.reset()}>
            Stay
          </button>
        </p>
      )}
      <form
        onSubmit={async (e) => {
          e.preventDefault();
          if (await send({ text })) setText("");
        }}
      >
        <p>
          <label htmlFor="text">To everybody</label>
          <br />
          <textarea id="text" rows={3} cols={50} value={text} onChange={(e) => setText(e.target.value)} required />
        </p>
        <button>Send</button>
      </form>
      {messages?.map((m, i) => (
        <article key={i}>
          <p>{m.text}</p>
          <p className="date">
            {m.by}, {m.at}
          </p>
        </article>
      ))}
    </>
  );
}

function Board() {
  const [items, problem] = useData<string[]>("/desk/api/board");
  return (
    <>
      <h1>Board</h1>
      {problem && <p role="alert">{problem}</p>}
      <ul>
        {items?.map((i) => (
          <li key={i}>{i}</li>
        ))}
      </ul>
    </>
  );
}

function Refused() {
  const [params] = useSearchParams();
  return (
    <>
      <h1>This is not for you</h1>
      <p className="lead">{params.get("at")} is for others, by the role that they have.</p>
    </>
  );
}

function Nothing() {
  return <h1>There is nothing here</h1>;
}

function Broken() {
  const error = useRouteError() as Error;
  return (
    <main>
      <h1>That did not work</h1>
      <p>{error instanceof DoorError && error.code === "offline" ? problems.offline : error.message}</p>
    </main>
  );
}

const router = createBrowserRouter([
  {
    path: "/desk",
    element: <Frame />,
    errorElement: <Broken />,
    hydrateFallbackElement: <p role="status">Opening the desk …</p>,
    children: [
      { index: true, element: <Welcome /> },
      { path: "shifts", loader: guarded, element: <Shifts /> },
      { path: "messages", loader: guarded, element: <Messages /> },
      { path: "board", loader: guarded, element: <Board /> },
      { path: "refused", element: <Refused /> },
      { path: "*", element: <Nothing /> },
    ],
  },
]);

// When somebody goes, in this tab or another, the closed pages go too.
watch(() => typing.something || void router.revalidate());

createRoot(document.getElementById("desk")!).render(
  <StrictMode>
    <RouterProvider router={router} />
  </StrictMode>,
);
