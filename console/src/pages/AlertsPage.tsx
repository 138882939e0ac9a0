import { useState } from "react";
import { Link, useNavigate } from "react-router";
import styled from "styled-components";
import { useAlertOrders } from "../data/orders";
import { usePerson } from "../data/person";
import { useAccepted, useAlerts, useRoutes, useWatched } from "../data/queries";
import { useSound } from "../data/sound";
import { useShopTime } from "../data/time";
import type { Alert, Route, RouteTrial } from "../data/types";
import { AcceptDialog, MadeDialog, RouteDialog, SettleDialog, TrialDialog } from "../parts/AlertDialogs";
import { AcceptedRow, AlertRow, RouteRow, Rows, thenOf, useCursor } from "../parts/AlertParts";
import { Aside, Button, Keys, Section, State, Wrong } from "../parts/basics";
import { count } from "../parts/format";
import { QuietHours } from "../parts/QuietHours";
import { color, medium, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Head = styled.section`
  min-height: 44px; border-bottom: 1px solid ${color.rule}; padding: 0 24px; display: flex; align-items: center; gap: 8px 24px;
  flex-wrap: wrap; & h1 { ${text.body} } & .push { margin-left: auto; display: flex; align-items: center; gap: 4px 12px; flex-wrap: wrap; }
  & .push button { border: 0; min-width: 0; text-decoration: underline; text-underline-offset: 3px; padding: 0 4px; }
  & a { min-height: 44px; display: inline-flex; align-items: center; }
`;
const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 320px; gap: 24px; padding: 16px 24px 24px; align-items: start;
  & > div { display: grid; gap: 16px; min-width: 0; }
  & section > header button { margin-left: auto; min-width: 0; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;

type Question =
  | { about: "settle"; alert: Alert }
  | { about: "accept"; alert?: Alert }
  | { about: "route"; route?: Route }
  | { about: "trial"; name: string; trial: RouteTrial }
  | { about: "made"; secret: string };

/** How many settled alerts are shown at first. */
const settledAtFirst = 10;

/** What a person should know: what is open, who looks after what, what is known, and who is told. */
export default function AlertsPage() {
  const alerts = useAlerts();
  const accepted = useAccepted();
  const routes = useRoutes();
  const watched = useWatched();
  const sound = useSound();
  const now = useShopTime();
  const orders = useAlertOrders(usePerson().name);
  const { asPerson } = useActions();
  const go = useNavigate();
  const [asked, ask] = useState<Question>();
  const [all, showAll] = useState(false);
  const list = alerts.data ?? [];
  const open = list.filter((a) => a.state === "open");
  const taken = list.filter((a) => a.state === "taken");
  const settled = list.filter((a) => a.state === "settled");
  const shown = all ? settled : settled.slice(0, settledAtFirst);
  const [cursor, move] = useCursor([...open, ...taken, ...shown].map((a) => a.id));
  const current = list.find((a) => a.id === cursor);
  const question = (q: Question) => {
    for (const m of [orders.settle, orders.accept, orders.setRoute, orders.endRoute]) m.reset();
    asPerson(() => ask(q));
  };
  const take = (a: Alert) => asPerson(() => orders.take.mutate({ alert: a.id, serial: a.serial }));
  const see = (a: Alert) => {
    const to = thenOf(a);
    if (to) go(to);
  };
  useShortcuts({
    j: () => move(1),
    k: () => move(-1),
    ArrowDown: () => move(1),
    ArrowUp: () => move(-1),
    Enter: () => current && see(current),
    o: () => current && see(current),
    t: () => current?.state === "open" && take(current),
    e: () => current && current.state !== "settled" && question({ about: "settle", alert: current }),
    q: () => current?.kind === "signal" && question({ about: "accept", alert: current }),
    b: () => go("/"),
  });
  if (alerts.isError && !alerts.data) return <Wrong error={alerts.error} retry={() => alerts.refetch()} />;
  if (!alerts.data) return <State title="Fetching the alerts" />;
  const row = (a: Alert) => (
    <AlertRow key={a.id} alert={a} now={now} current={a.id === cursor}>
      {a.state === "open" ? (
        <Button $filled onPress={() => take(a)}>
          Take on
        </Button>
      ) : a.state === "taken" ? (
        <Button onPress={() => question({ about: "settle", alert: a })}>Settle</Button>
      ) : (
        a.serial && <Button onPress={() => see(a)}>Open</Button>
      )}
    </AlertRow>
  );
  const done = { onSuccess: () => ask(undefined) };
  const missed = (watched.data ?? []).filter((w) => w.missed.length > 1).length;
  return (
    <>
      <title>{open.length > 0 ? `(${open.length}) Alerts · Hylostat` : "Alerts · Hylostat"}</title>
      <Head>
        <h1>
          <b>{open.length} open</b> · {taken.length} taken on
          {missed > 0 && ` · ${count(missed, "drive is", "drives are")} not read`}
        </h1>
        <Link to="/watch">Watch: {count(watched.data?.length ?? 0, "drive", "drives")}</Link>
        <div className="push">
          <span>Sound {sound.on ? (sound.allowed ? "on" : "on, once the page is touched") : "off"}</span>
          <Button onPress={() => sound.turn(!sound.on)}>{sound.on ? "Turn off" : "Turn on"}</Button>
          {typeof Notification !== "undefined" && Notification.permission === "default" && (
            <Button onPress={() => Notification.requestPermission()}>Show notices</Button>
          )}
        </div>
      </Head>
      <Two>
        <div>
          <Section>
            <header>
              <h2>Open</h2>
              <p>{open.length === 0 ? "nothing waits for anybody" : `${open.length}, what moved last first`}</p>
            </header>
            {open.length > 0 && <Rows aria-label="Open alerts">{open.map(row)}</Rows>}
          </Section>
          {taken.length > 0 && (
            <Section>
              <header>
                <h2>Taken on</h2>
                <p>{taken.length}, somebody looks after it</p>
              </header>
              <Rows aria-label="Alerts taken on">{taken.map(row)}</Rows>
            </Section>
          )}
          {settled.length > 0 && (
            <Section>
              <header>
                <h2>Settled</h2>
                <p>by somebody, or by itself when it was over</p>
              </header>
              <Rows aria-label="Settled alerts">{shown.map(row)}</Rows>
              {settled.length > shown.length && <Button onPress={() => showAll(true)}>All {settled.length}</Button>}
            </Section>
          )}
          {list.length === 0 && (
            <Aside>
              Nothing yet. Alerts come of drives that are watched: <Link to="/watch">watch some</Link>.
            </Aside>
          )}
        </div>
        <div>
          <Section>
            <header>
              <h2>Accepted levels</h2>
              <p>known</p>
              <Button onPress={() => question({ about: "accept" })}>Add …</Button>
            </header>
            <ul>
              {accepted.data?.map((a) => (
                <AcceptedRow
                  key={a.serial + a.signal}
                  a={a}
                  end={() => asPerson(() => orders.speakAgain.mutate({ serial: a.serial, signal: a.signal }))}
                />
              ))}
            </ul>
            {accepted.data?.length === 0 && <Aside>None.</Aside>}
          </Section>
          {routes.data && (
            <Section>
              <header>
                <h2>Who is told</h2>
                <p>last sent, last failed</p>
                <Button onPress={() => question({ about: "route" })}>Add …</Button>
              </header>
              <ul>
                {routes.data.map((r) => (
                  <RouteRow
                    key={r.route.name}
                    r={r}
                    now={now}
                    open={() => question({ about: "route", route: r })}
                    tried={() =>
                      asPerson(() =>
                        orders.tryRoute.mutate(r.route.name, {
                          onSuccess: (trial) => ask({ about: "trial", name: r.route.name, trial }),
                        }),
                      )
                    }
                  />
                ))}
              </ul>
            </Section>
          )}
          {routes.data && <QuietHours routes={routes.data} alerts={list} now={now} />}
        </div>
      </Two>
      <Keys>
        <span>
          <kbd>j</kbd> <kbd>k</kbd> down, up
        </span>
        <span>
          <kbd>t</kbd> take on
        </span>
        <span>
          <kbd>e</kbd> settle
        </span>
        <span>
          <kbd>q</kbd> it is known, keep it quiet
        </span>
        <span>
          <kbd>Enter</kbd> open the drive as it was then
        </span>
        <span>
          <kbd>b</kbd> back to the bench
        </span>
      </Keys>
      {asked?.about === "settle" && (
        <SettleDialog
          alert={asked.alert}
          wrong={orders.settle.error?.message}
          close={() => ask(undefined)}
          done={(note) => orders.settle.mutate({ alert: asked.alert.id, serial: asked.alert.serial, note: note || undefined }, done)}
        />
      )}
      {asked?.about === "accept" && (
        <AcceptDialog
          serial={asked.alert?.serial}
          signal={asked.alert?.name}
          words={asked.alert?.words.words}
          now={asked.alert?.level}
          wrong={orders.accept.error?.message}
          close={() => ask(undefined)}
          done={(a) => orders.accept.mutate(a, done)}
        />
      )}
      {asked?.about === "route" && (
        <RouteDialog
          was={asked.route}
          wrong={(orders.setRoute.error ?? orders.endRoute.error)?.message}
          close={() => ask(undefined)}
          end={asked.route && (() => orders.endRoute.mutate(asked.route?.route.name ?? "", done))}
          done={(route, secret) =>
            orders.setRoute.mutate(
              { route, secret },
              { onSuccess: (r) => ask(r.made === undefined ? undefined : { about: "made", secret: r.made }) },
            )
          }
        />
      )}
      {asked?.about === "trial" && <TrialDialog name={asked.name} trial={asked.trial} close={() => ask(undefined)} />}
      {asked?.about === "made" && <MadeDialog secret={asked.secret} close={() => ask(undefined)} />}
    </>
  );
}
