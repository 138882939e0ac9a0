import { lazy } from "react";
import type { RouteObject } from "react-router";
import BenchPage from "./pages/BenchPage";
import { Shell } from "./pages/Shell";
import { State } from "./parts/basics";

const AccountPage = lazy(() => import("./pages/AccountPage"));
const BaysPage = lazy(() => import("./pages/BaysPage"));
const DrivePage = lazy(() => import("./pages/DrivePage"));
const DrivesPage = lazy(() => import("./pages/DrivesPage"));
const IntakePage = lazy(() => import("./pages/IntakePage"));
const LotsPage = lazy(() => import("./pages/LotsPage"));
const LotPage = lazy(() => import("./pages/LotPage"));
const RunPage = lazy(() => import("./pages/RunPage"));
const PolicyPage = lazy(() => import("./pages/PolicyPage"));
const AlertsPage = lazy(() => import("./pages/AlertsPage"));
const WatchPage = lazy(() => import("./pages/WatchPage"));
const PartsPage = lazy(() => import("./pages/PartsPage"));

/** Every address of the console. */
export const routes: RouteObject[] = [
  {
    element: <Shell />,
    children: [
      { path: "/", element: <BenchPage /> },
      { path: "/account", element: <AccountPage /> },
      { path: "/bays", element: <BaysPage /> },
      { path: "/drives", element: <DrivesPage /> },
      { path: "/drives/:serial", element: <DrivePage /> },
      { path: "/intake", element: <IntakePage /> },
      { path: "/lots", element: <LotsPage /> },
      { path: "/lots/:lot", element: <LotPage /> },
      { path: "/runs/:run", element: <RunPage /> },
      { path: "/alerts", element: <AlertsPage /> },
      { path: "/watch", element: <WatchPage /> },
      { path: "/policy", element: <PolicyPage /> },
      { path: "/parts", element: <PartsPage /> },
      { path: "*", element: <State title="No such page">The bench is at the top left.</State> },
    ],
  },
];
