import { useMutationState } from "@tanstack/react-query";
import { createContext, useContext, useEffect, useState } from "react";
import { Navigate, Outlet, useLocation, useNavigate } from "react-router";
import { prove } from "../data/account";
import { isProblem, proveBy } from "../data/client";
import { useEvents } from "../data/events";
import { useOrders, useSigning } from "../data/orders";
import { PersonContext, usePersonState } from "../data/person";
import { useAlerts, useService, useSession } from "../data/queries";
import { sound } from "../data/sound";
import { useShopTime } from "../data/time";
import type { CheckKind } from "../data/types";
import { Button } from "../parts/basics";
import { NameDialog } from "../parts/Dialogs";
import { Frame, Notice } from "../parts/Frame";
import { ProveDialog, SignIn } from "../parts/SignIn";
import { useShortcuts } from "./shortcuts";

const themeKey = "hylostat.theme";

function useTheme(): [theme: "light" | "dark", turn: () => void] {
  const asked = new URLSearchParams(location.search).get("theme") ?? localStorage.getItem(themeKey);
  const system = matchMedia?.("(prefers-color-scheme: dark)").matches ? "dark" : "light";
  const [theme, setTheme] = useState<"light" | "dark">(asked === "dark" || asked === "light" ? asked : system);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const turn = () => {
    const next = theme === "light" ? "dark" : "light";
    localStorage.setItem(themeKey, next);
    setTheme(next);
  };
  return [theme, turn];
}

interface Actions {
  /** Does something that carries a person's name; asks for the name first when it is not known. */
  asPerson: (then: (name: string) => void) => void;
  /** Starts a check, a quick one when no other is named; it can be undone for 5 s. */
  check: (serial: string, kind?: CheckKind, despite?: string) => void;
  /** The same of several drives; one that cannot start keeps no other from starting. */
  checkAll: (serials: readonly string[], kind: CheckKind) => void;
}

const ActionsContext = createContext<Actions>({ asPerson: () => {}, check: () => {}, checkAll: () => {} });
export const useActions = () => useContext(ActionsContext);

/** How long a started check can be undone, ms. */
const undoFor = 5000;

/** What all pages share: the frame, the line to the service, the person, what was just started. */
export function Shell() {
  const service = useService();
  const session = useSession();
  const signing = useSigning();
  const closed = session.data !== undefined && !session.data.open;
  const nobody = closed && !session.data?.name; // is signed in: the form says what is wrong, and no line is lost
  const person = usePersonState(closed ? (session.data?.name ?? "") : undefined);
  const orders = useOrders(person.name);
  const time = useShopTime();
  const admitted = session.data !== undefined && (session.data.open || session.data.name !== undefined);
  const line = useEvents(admitted, person.name);
  const alerts = useAlerts(admitted);
  const open = alerts.data?.filter((a) => a.state === "open") ?? [];
  const [theme, turn] = useTheme();
  const [asking, ask] = useState<{ then?: (name: string) => void }>();
  const [started, setStarted] = useState<{ runs: number[]; what: string }>();
  const failed = useMutationState({ filters: { status: "error" }, select: (m) => m.state.error?.message }).at(-1);
  const [seen, see] = useState<string>();
  const [coded, setCoded] = useState(false); // whoever signs in has a second factor: it stays asked for after a wrong code
  const remember = (wanted: boolean) => wanted && setCoded(true);
  const [proving, setProving] = useState<(proved: boolean) => void>();
  const navigate = useNavigate();
  const location = useLocation();

  useEffect(() => {
    if (!started) return;
    const timer = setTimeout(() => setStarted(undefined), undoFor);
    return () => clearTimeout(timer);
  }, [started]);

  const undo = () => {
    for (const run of started?.runs ?? []) orders.stop.mutate(run);
    setStarted(undefined);
  };
  useShortcuts({ u: undo });

  useEffect(() => {
    for (const id of sound.waiting) if (alerts.data && !open.some((a) => a.id === id)) sound.stop(id);
  });

  useEffect(() => {
    for (const kind of ["pointerdown", "keydown"]) addEventListener(kind, sound.touched, { once: true });
    return () => {
      for (const kind of ["pointerdown", "keydown"]) removeEventListener(kind, sound.touched);
    };
  }, []);

  useEffect(() => {
    proveBy(() => new Promise((resolve) => setProving(() => resolve)));
    return () => proveBy(undefined);
  }, []);

  const asPerson = (then: (name: string) => void) => (person.name ? then(person.name) : ask({ then }));
  const check = (serial: string, kind: CheckKind = "quick", despite?: string) =>
    asPerson(() =>
      orders.check.mutate(
        { serial, kind, despite },
        { onSuccess: (run) => setStarted({ runs: [run.id], what: `${run.title} of ${serial.slice(-5)} started.` }) },
      ),
    );
  const checkAll = (serials: readonly string[], kind: CheckKind) =>
    asPerson(async () => {
      const all = await Promise.allSettled(serials.map((serial) => orders.check.mutateAsync({ serial, kind })));
      const runs = all.flatMap((a) => (a.status === "fulfilled" ? [a.value] : []));
      const wrong = all.flatMap((a) => (a.status === "rejected" ? [(a.reason as Error).message] : []));
      const of = runs[0] ? `${runs[0].title} of ${runs.length} started. ` : "";
      if (runs.length > 0 || wrong.length > 0)
        setStarted({ runs: runs.map((r) => r.id), what: of + (wrong.length > 0 ? `${wrong.length} did not start: ${wrong[0]}` : "") });
    });

  return (
    <PersonContext value={person}>
      <ActionsContext value={{ asPerson, check, checkAll }}>
        <Frame
          service={service.data}
          time={time}
          person={person.name}
          rename={() => (closed ? session.data?.name && navigate("/account") : ask({}))}
          leave={closed && session.data?.name ? () => signing.leave.mutate() : undefined}
          lost={nobody ? undefined : line.lost}
          said={line.said}
          alerts={open.length}
          theme={theme}
          turn={turn}
        >
          {nobody ? (
            <SignIn
              wrong={signing.enter.error?.message}
              busy={signing.enter.isPending}
              coded={coded || isProblem(signing.enter.error, "code-wanted")}
              enter={(name, password, code) =>
                signing.enter.mutate({ name, password, code }, { onError: (e) => remember(isProblem(e, "code-wanted")) })
              }
            />
          ) : session.data?.unset && location.pathname !== "/account" ? (
            <Navigate to="/account" replace />
          ) : (
            <Outlet />
          )}
        </Frame>
        {proving && (
          <ProveDialog
            name={person.name}
            coded={session.data?.factor ?? false}
            prove={(password, code) => prove({ password, code })}
            done={(proved) => {
              proving(proved);
              setProving(undefined);
            }}
          />
        )}
        {asking && (
          <NameDialog
            name={person.name}
            close={() => ask(undefined)}
            done={(name) => {
              person.rename(name);
              ask(undefined);
              // The orders take the new name with the next render.
              if (asking.then) setTimeout(() => asking.then?.(name));
            }}
          />
        )}
        {started ? (
          <Notice action={started.runs.length > 0 ? <Button onPress={undo}>Undo (u)</Button> : null}>{started.what}</Notice>
        ) : (
          !nobody && failed && failed !== seen && <Notice action={<Button onPress={() => see(failed)}>Close</Button>}>{failed}</Notice>
        )}
      </ActionsContext>
    </PersonContext>
  );
}
