package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"ostiarius/client"
)

// What is around the guard of the documentation, for each router: three pages, of which two are closed.
var routers = map[string]string{
	"React Router": `
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Link, Outlet, RouterProvider } from "react-router";
GUARD
const frame = <><nav><Link to="/desk">Home</Link> <Link to="/desk/shifts">Shifts</Link> <Link
  to="/desk/board">Board</Link></nav><Outlet /></>;
const router = createBrowserRouter([{ path: "/desk", element: frame, hydrateFallbackElement: <p />, children: [
  { index: true, element: <h1>Home</h1> }, { path: "refused", element: <h1>Refused</h1> },
  { path: "shifts", loader: guarded, element: <h1>Shifts</h1> }, { path: "board", loader: guarded, element: <h1>Board</h1> },
] }]);
createRoot(document.getElementById("app")!).render(<RouterProvider router={router} />);
`,
	"TanStack Router": `
import { createRoot } from "react-dom/client";
import { createRootRoute, createRoute, createRouter, Link, Outlet, RouterProvider } from "@tanstack/react-router";
GUARD
const root = createRootRoute({ component: () => <><nav><Link to="/desk">Home</Link> <Link to="/desk/shifts">Shifts</Link> <Link
  to="/desk/board">Board</Link></nav><Outlet /></> });
const page = (path: string, title: string, closed?: boolean) => createRoute({ getParentRoute: () => root, path, component: () =>
  <h1>{title}</h1>, ...(closed && { beforeLoad: guarded }) });
const router = createRouter({ routeTree: root.addChildren([page("/desk", "Home"), page("/desk/refused", "Refused"),
  page("/desk/shifts", "Shifts", true), page("/desk/board", "Board", true)]) });
createRoot(document.getElementById("app")!).render(<RouterProvider router={router} />);
`,
	"wouter": `
import { createRoot } from "react-dom/client";
import { Link, Route, Switch } from "wouter";
GUARD
createRoot(document.getElementById("app")!).render(<><nav><Link to="/desk">Home</Link> <Link to="/desk/shifts">Shifts</Link> <Link
  to="/desk/board">Board</Link></nav><Switch>
  <Route path="/desk"><h1>Home</h1></Route> <Route path="/desk/refused"><h1>Refused</h1></Route>
  <Route path="/desk/shifts"><Guarded><h1>Shifts</h1></Guarded></Route> <Route path="/desk/board"><Guarded><h1>Board</h1></Guarded></Route>
</Switch></>);
`,
}

// The guards in the documentation, as they stand there, in an application of each router.
func TestGuardsForRouters(t *testing.T) {
	t.Parallel()
	docs, err := os.ReadFile(filepath.Join(Root(), "docs", "applications.md"))
	if err != nil {
		t.Fatal(err)
	}
	_, part, _ := strings.Cut(string(docs), "## Guards for routers")
	for name, around := range routers {
		t.Run(name, func(t *testing.T) {
			_, rest, found := strings.Cut(part, name+", ")
			_, rest, _ = strings.Cut(rest, "```tsx\n")
			guard, _, ended := strings.Cut(rest, "```")
			if !found || !ended {
				t.Fatal("the documentation has no guard for it")
			}
			dir := t.TempDir()
			write(t, dir, "site/index.html", "<h1>Site</h1>")
			write(t, dir, "app/index.html", `<!doctype html><html lang=en><title>t</title><div id=app></div><script type=module `+
				`src="/main.tsx"></script>`)
			write(t, dir, "app/main.tsx", strings.Replace(around, "GUARD", guard, 1))
			write(t, dir, "app/vite.config.mjs", `export default { base: "/desk/", esbuild: { jsx: "automatic" }, oxc: { jsx: { runtime: `+
				`"automatic" } }, build: { outDir: "../desk", emptyOutDir: true, minify: false, rollupOptions: { external: ["/door/client.js"] } } }`)
			modules := filepath.Join(Root(), "console", "node_modules")
			if err := os.Symlink(modules, filepath.Join(dir, "app", "node_modules")); err != nil {
				t.Fatal(err)
			}
			build := exec.Command(filepath.Join(modules, ".bin", "vite"), "build", "--logLevel", "error")
			build.Dir = filepath.Join(dir, "app")
			if out, err := build.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			write(t, dir, "doors.yaml", `
roles: { volunteer: , trustee: { includes: [volunteer] } }
sources: [ { path: /, files: ./site }, { path: /desk, files: ./desk, fallback: index.html, shell: public } ]
doors:
  - { path: [/desk, /desk/refused, /desk/assets/**], admit: public }
  - { path: /desk/shifts, admit: { role: volunteer } }
  - { path: /desk/board, admit: { role: trustee } }
`)
			s := start(t, dir)
			if _, err := client.AddPerson.Ask(t.Context(), client.New(s.Data),
				client.NewPerson{Name: "walt", Password: walt, Roles: []string{"volunteer"}}); err != nil {
				t.Fatal(err)
			}
			ctx := tab(t)
			do(ctx, t, chromedp.Navigate(s.URL+"/desk"))
			look(ctx, t, "h1", "Home")
			do(ctx, t, chromedp.Click(`//a[.="Shifts"]`))
			look(ctx, t, "h1", "Sign in")
			do(ctx, t, keys("#username", "walt"), keys("#password", walt+"\r"))
			look(ctx, t, "h1", "Shifts")
			do(ctx, t, chromedp.Click(`//a[.="Board"]`))
			look(ctx, t, "h1", "Refused")
			do(ctx, t, chromedp.Click(`//a[.="Shifts"]`))
			look(ctx, t, "h1", "Shifts")
			do(ctx, t, chromedp.Reload())
			look(ctx, t, "h1", "Shifts")
			until(ctx, t, fmt.Sprintf("location.pathname === %q", "/desk/shifts"))
		})
	}
}
