import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { ActivityPage } from "./pages/Activity";
import { DoorsPage } from "./pages/Doors";
import { KeyringsPage } from "./pages/Keyrings";
import { MatrixPage } from "./pages/Matrix";
import { PeoplePage } from "./pages/People";
import { SessionsPage } from "./pages/Sessions";
import { TryPage } from "./pages/Try";
import { Frame } from "./parts/Frame";
import { Loading } from "./parts/states";
import { applyTheme } from "./parts/theme";
import "./style.css";

// The editor and the chart are large; they are fetched when their page is opened.
const PolicyPage = lazy(() => import("./pages/Policy").then((m) => ({ default: m.PolicyPage })));
const TodayPage = lazy(() => import("./pages/Today").then((m) => ({ default: m.TodayPage })));

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
          <Route element={<Frame />}>
            <Route index element={<Suspense fallback={<Loading what="the day" />}><TodayPage /></Suspense>} />
            <Route path="doors" element={<DoorsPage />} />
            <Route path="people" element={<PeoplePage />} />
            <Route path="keyrings" element={<KeyringsPage />} />
            <Route path="sessions" element={<SessionsPage />} />
            <Route path="activity" element={<ActivityPage />} />
            <Route path="matrix" element={<MatrixPage />} />
            <Route path="policy" element={<Suspense fallback={<Loading what="the policy" />}><PolicyPage /></Suspense>} />
            <Route path="try" element={<TryPage />} />
            <Route path="*" element={<p>There is no such page in the console.</p>} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
