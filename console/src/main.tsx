import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import BenchPage from "./pages/BenchPage";
import { Shell } from "./pages/Shell";
import { State } from "./parts/basics";
import { Global } from "./theme/Global";

const BaysPage = lazy(() => import("./pages/BaysPage"));
const DrivePage = lazy(() => import("./pages/DrivePage"));
const DrivesPage = lazy(() => import("./pages/DrivesPage"));
const IntakePage = lazy(() => import("./pages/IntakePage"));
const LotsPage = lazy(() => import("./pages/LotsPage"));
const LotPage = lazy(() => import("./pages/LotPage"));
const RunPage = lazy(() => import("./pages/RunPage"));
const PolicyPage = lazy(() => import("./pages/PolicyPage"));
const PartsPage = lazy(() => import("./pages/PartsPage"));

const router = createBrowserRouter([
  {
    element: <Shell />,
    children: [
      { path: "/", element: <BenchPage /> },
      { path: "/bays", element: <BaysPage /> },
      { path: "/drives", element: <DrivesPage /> },
      { path: "/drives/:serial", element: <DrivePage /> },
      { path: "/intake", element: <IntakePage /> },
      { path: "/lots", element: <LotsPage /> },
      { path: "/lots/:lot", element: <LotPage /> },
      { path: "/runs/:run", element: <RunPage /> },
      { path: "/policy", element: <PolicyPage /> },
      { path: "/parts", element: <PartsPage /> },
      { path: "*", element: <State title="No such page">The bench is at the top left.</State> },
    ],
  },
]);

// Events say when something changed, so nothing is asked for on a timer or a focus.
const cache = new QueryClient({
  defaultOptions: { queries: { staleTime: Number.POSITIVE_INFINITY, retry: 2, refetchOnWindowFocus: false } },
});

const root = document.getElementById("root");
if (root)
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={cache}>
        <Global />
        <Suspense fallback={<State title="Fetching the page" />}>
          <RouterProvider router={router} />
        </Suspense>
      </QueryClientProvider>
    </StrictMode>,
  );
