import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { ActivityPage } from "./activity/ActivityPage";
import { DoorsPage } from "./doors/DoorsPage";
import { EventsPage } from "./events/EventsPage";
import { KeyringsPage } from "./keyrings/KeyringsPage";
import { MatrixPage } from "./matrix/MatrixPage";
import { LooksPage } from "./looks/LooksPage";
import { MessagesPage } from "./messages/MessagesPage";
import { PatrolPage } from "./patrol/PatrolPage";
import { PassesPage } from "./passes/PassesPage";
import { PeoplePage } from "./people/PeoplePage";
import { SharedPage } from "./shared/SharedPage";
import { SitePage } from "./site/SitePage";
import { SessionsPage } from "./sessions/SessionsPage";
import { TryPage } from "./try/TryPage";
import { Frame } from "./frame/Frame";
import { Loading } from "./parts/states";
import { applyTheme } from "./frame/theme";
import "./style.css";

// The editor and the chart are large; they are fetched when their page is opened.
const PolicyPage = lazy(() => import("./policy/PolicyPage").then((m) => ({ default: m.PolicyPage })));
const MembersPage = lazy(() => import("./members/MembersPage").then((m) => ({ default: m.MembersPage })));
const TodayPage = lazy(() => import("./today/TodayPage").then((m) => ({ default: m.TodayPage })));

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
            <Route
              index
              element={
                <Suspense fallback={<Loading what="the day" />}>
                  <TodayPage />
                </Suspense>
              }
            />
            <Route path="site" element={<SitePage />} />
            <Route path="doors" element={<DoorsPage />} />
            <Route path="people" element={<PeoplePage />} />
            <Route
              path="members"
              element={
                <Suspense fallback={<Loading what="the members" />}>
                  <MembersPage />
                </Suspense>
              }
            />
            <Route path="events" element={<EventsPage />} />
            <Route path="keyrings" element={<KeyringsPage />} />
            <Route path="shared" element={<SharedPage />} />
            <Route path="passes" element={<PassesPage />} />
            <Route path="sessions" element={<SessionsPage />} />
            <Route path="activity" element={<ActivityPage />} />
            <Route path="looks" element={<LooksPage />} />
            <Route path="messages" element={<MessagesPage />} />
            <Route path="matrix" element={<MatrixPage />} />
            <Route
              path="policy"
              element={
                <Suspense fallback={<Loading what="the policy" />}>
                  <PolicyPage />
                </Suspense>
              }
            />
            <Route path="try" element={<TryPage />} />
            <Route path="patrol" element={<PatrolPage />} />
            <Route path="*" element={<p>There is no such page in the console.</p>} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
