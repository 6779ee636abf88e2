import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { DoorsPage } from "./pages/Doors";
import { MatrixPage } from "./pages/Matrix";
import { PolicyPage } from "./pages/Policy";
import { TryPage } from "./pages/Try";
import { Frame } from "./parts/Frame";
import { applyTheme } from "./parts/theme";
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
          <Route element={<Frame />}>
            <Route index element={<DoorsPage />} />
            <Route path="matrix" element={<MatrixPage />} />
            <Route path="policy" element={<PolicyPage />} />
            <Route path="try" element={<TryPage />} />
            <Route path="*" element={<p>There is no such page in the console.</p>} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
