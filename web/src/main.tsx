import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { Problem } from "./api";
import { Frame } from "./parts/Frame";
import { NoPage } from "./pages/NoPage";
import { Paths } from "./pages/Paths";
import { SignIn } from "./pages/SignIn";
import "./styles.css";

// Each page brings what it needs: the first is soon there.
const Agents = lazy(async () => ({ default: (await import("./pages/Agents")).Agents }));
const Watches = lazy(async () => ({ default: (await import("./pages/Watches")).Watches }));
const Measure = lazy(async () => ({ default: (await import("./pages/Measure")).Measure }));
const Sweeps = lazy(async () => ({ default: (await import("./pages/Sweeps")).Sweeps }));
const Reports = lazy(async () => ({ default: (await import("./pages/Reports")).Reports }));
const Boards = lazy(async () => ({ default: (await import("./pages/Boards")).Boards }));
const OneBoard = lazy(async () => ({ default: (await import("./pages/OneBoard")).OneBoard }));
const Settings = lazy(async () => ({ default: (await import("./pages/Settings")).Settings }));
const OnePath = lazy(async () => ({ default: (await import("./pages/OnePath")).OnePath }));

const client = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // The service may be on this very machine: whether the browser believes itself
      // online says nothing of it, least of all while a network is being mended.
      networkMode: "always",
      retry: (count, error) => !(error instanceof Problem && error.status >= 400 && error.status < 500) && count < 3,
    },
    mutations: { networkMode: "always" },
  },
  queryCache: new QueryCache({
    onError: (error) => {
      if (error instanceof Problem && error.status === 401 && location.pathname !== "/sign-in")
        location.assign("/sign-in?to=" + encodeURIComponent(location.pathname + location.search));
    },
  }),
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route path="/sign-in" element={<SignIn />} />
          <Route element={<Frame />}>
            <Route index element={<Paths />} />
            <Route path="/paths/:id" element={<OnePath />} />
            <Route path="/watches" element={<Watches />} />
            <Route path="/measure" element={<Measure />} />
            <Route path="/agents" element={<Agents />} />
            <Route path="/sweeps" element={<Sweeps />} />
            <Route path="/sweeps/:id" element={<Sweeps />} />
            <Route path="/reports" element={<Reports />} />
            <Route path="/boards" element={<Boards />} />
            <Route path="/boards/:id" element={<OneBoard />} />
            <Route path="/settings" element={<Settings />} />
            <Route path="*" element={<NoPage />} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
