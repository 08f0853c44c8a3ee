import { QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { client } from "./client";
import { Frame } from "./parts/Frame";
import { NoPage } from "./pages/NoPage";
import { Paths } from "./pages/Paths";
import { SignIn } from "./pages/SignIn";
import { Welcome } from "./pages/Welcome";
import "./styles.css";

// Each page brings what it needs: the first is soon there.
const Acceptance = lazy(async () => ({ default: (await import("./pages/Acceptance")).Acceptance }));
const Compare = lazy(async () => ({ default: (await import("./pages/Compare")).Compare }));
const Readiness = lazy(async () => ({ default: (await import("./pages/Readiness")).Readiness }));
const OneAcceptance = lazy(async () => ({ default: (await import("./pages/OneAcceptance")).OneAcceptance }));
const Agents = lazy(async () => ({ default: (await import("./pages/Agents")).Agents }));
const Watches = lazy(async () => ({ default: (await import("./pages/Watches")).Watches }));
const Measure = lazy(async () => ({ default: (await import("./pages/Measure")).Measure }));
const Sweeps = lazy(async () => ({ default: (await import("./pages/Sweeps")).Sweeps }));
const Reports = lazy(async () => ({ default: (await import("./pages/Reports")).Reports }));
const Boards = lazy(async () => ({ default: (await import("./pages/Boards")).Boards }));
const OneBoard = lazy(async () => ({ default: (await import("./pages/OneBoard")).OneBoard }));
const Settings = lazy(async () => ({ default: (await import("./pages/Settings")).Settings }));
const People = lazy(async () => ({ default: (await import("./pages/People")).People }));
const OnePath = lazy(async () => ({ default: (await import("./pages/OnePath")).OnePath }));

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <BrowserRouter>
        <Routes>
          <Route path="/sign-in" element={<SignIn />} />
          <Route path="/welcome" element={<Welcome />} />
          <Route element={<Frame />}>
            <Route index element={<Paths />} />
            <Route path="/paths/:id" element={<OnePath />} />
            <Route path="/watches" element={<Watches />} />
            <Route path="/measure" element={<Measure />} />
            <Route path="/acceptance" element={<Acceptance />} />
            <Route path="/compare" element={<Compare />} />
            <Route path="/readiness" element={<Readiness />} />
            <Route path="/acceptance/:id" element={<OneAcceptance />} />
            <Route path="/agents" element={<Agents />} />
            <Route path="/sweeps" element={<Sweeps />} />
            <Route path="/sweeps/:id" element={<Sweeps />} />
            <Route path="/reports" element={<Reports />} />
            <Route path="/boards" element={<Boards />} />
            <Route path="/boards/:id" element={<OneBoard />} />
            <Route path="/settings" element={<Settings />} />
            <Route path="/people" element={<People />} />
            <Route path="*" element={<NoPage />} />
          </Route>
        </Routes>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
