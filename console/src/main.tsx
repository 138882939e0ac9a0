import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { base } from "./data/base";
import { State } from "./parts/basics";
import { routes } from "./routes";
import { Global } from "./theme/Global";

const router = createBrowserRouter(routes, { basename: base || "/" });

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

// What was last seen can be read without a connection. A browser keeps it for a page that nobody can have changed on the way.
if ("serviceWorker" in navigator && window.isSecureContext) navigator.serviceWorker.register(`${base}/worker.js`).catch(() => undefined);
