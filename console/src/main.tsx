import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { Frame } from "./frame/Frame";
import { applyTheme } from "./frame/theme";
import { groups, pages } from "./pages";
import { Loading } from "./parts/states";
import "./style.css";

applyTheme();

const queries = new QueryClient({
  defaultOptions: { queries: { retry: 1, staleTime: 2000, refetchOnWindowFocus: true } },
});

// The service writes where the console lives into <base>.
const basename = new URL(".", document.baseURI).pathname.replace(/\/$/, "");

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter basename={basename}>
        <Routes>
          <Route element={<Frame groups={groups} />}>
            {pages.map(({ to, label, page: Page }) => (
              <Route
                key={to}
                path={to}
                element={
                  <Suspense fallback={<Loading what={`the page ${label}`} />}>
                    <Page />
                  </Suspense>
                }
              />
            ))}
            <Route path="*" element={<p>There is no such page in the console.</p>} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
