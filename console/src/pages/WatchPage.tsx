import { useState } from "react";
import { Link, useNavigate } from "react-router";
import styled from "styled-components";
import { useAlertOrders } from "../data/orders";
import { usePerson } from "../data/person";
import { useAlerts, useService, useWatched, useWatchLoad, useWatchPlans } from "../data/queries";
import { useShopTime } from "../data/time";
import type { Watched, WatchPlan } from "../data/types";
import { Button, Keys, Scroll, Section, State, Table, Wrong } from "../parts/basics";
import { clockOf, count, dayOf, parts } from "../parts/format";
import { LoadStrip, PlanForm, WatchedRow } from "../parts/WatchParts";
import { color, medium, phone, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Head = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: center; gap: 8px 16px;
  flex-wrap: wrap; & h1 { ${text.large} display: flex; align-items: baseline; gap: 8px; & b { ${text.display} } }
  & dl { display: flex; flex-wrap: wrap; row-gap: 4px; } & dl > div { padding: 0 16px; border-left: 1px solid ${color.rule}; }
  & dt { ${text.small} color: ${color.ink3}; } & .push { margin-left: auto; }
`;
const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 320px; gap: 24px; padding: 16px 24px 24px; align-items: start;
  &.alone { grid-template-columns: minmax(0, 1fr); }
  & .strip { width: 296px; }
  @media (max-width: ${phone}px) { & thead { display: none; } & table, & tbody { display: block; } }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); & > aside { order: -1; } }
`;

/** The first thing that comes due, of all drives. */
function first(all: Watched[]) {
  return all
    .flatMap((w) => w.comes.flatMap((c) => (c.next ? [{ w, at: c.next, title: c.title }] : [])))
    .sort((a, b) => a.at.localeCompare(b.at))[0];
}

/** The drives that stay attached: by which plan each is watched, and how that goes. */
export default function WatchPage() {
  const watched = useWatched();
  const plans = useWatchPlans();
  const load = useWatchLoad();
  const alerts = useAlerts();
  const benches = useService().data?.benches ?? [];
  const now = useShopTime();
  const orders = useAlertOrders(usePerson().name);
  const { asPerson } = useActions();
  const go = useNavigate();
  const [editing, edit] = useState<{ plan?: WatchPlan }>();
  const start = (plan?: WatchPlan) => {
    orders.setPlan.reset();
    orders.endPlan.reset();
    asPerson(() => edit({ plan }));
  };
  useShortcuts({ n: () => start(), b: () => go("/"), a: () => go("/alerts"), Escape: () => edit(undefined) });
  if (watched.isError && !watched.data) return <Wrong error={watched.error} retry={() => watched.refetch()} />;
  if (!watched.data || !plans.data) return <State title="Fetching the watch" />;
  const list = watched.data;
  const next = first(list);
  const missed = list.filter((w) => w.missed.length > 1);
  const busy = list.filter((w) => w.doing !== undefined);
  const done = { onSuccess: () => edit(undefined) };
  const of = (w: Watched) => (alerts.data ?? []).filter((a) => a.serial === w.serial);
  return (
    <>
      <title>Watch · Hylostat</title>
      <Head>
        <h1>
          Watch <b>{list.length}</b> {list.length === 1 ? "drive" : "drives"}
        </h1>
        <dl>
          <div>
            <dt>Plans</dt>
            <dd>{plans.data.length}</dd>
          </div>
          <div>
            <dt>Busy now</dt>
            <dd>{busy.length === 0 ? "none" : count(busy.length, "drive", "drives")}</dd>
          </div>
          {next && (
            <div>
              <dt>Next</dt>
              <dd>
                {parts(next.w.serial)[1]}, {next.title}, {dayOf(next.at)} {clockOf(next.at)}
              </dd>
            </div>
          )}
          <div>
            <dt>Missed</dt>
            <dd>{missed.length === 0 ? "none" : <b>{count(missed.length, "drive", "drives")}</b>}</dd>
          </div>
        </dl>
        <Button className="push" onPress={() => start()}>
          Watch a drive …
        </Button>
      </Head>
      {list.length === 0 && !editing ? (
        <State title="No drive is watched" action={<Button onPress={() => start()}>Watch a drive …</Button>}>
          A drive that stays attached is read on a schedule; what matters is told once.
        </State>
      ) : (
        <Two className={editing ? undefined : "alone"}>
          <Section>
            <header>
              <h2>Drives</h2>
              <p>missed first, then by what is due next · tick: reading · tall: self-test · box: missed · ▾ alert · line: now</p>
            </header>
            <Scroll tabIndex={0}>
              <Table>
                <thead>
                  <tr>
                    <th>drive</th>
                    <th>plan; the narrowest counts</th>
                    <th>5 days back, 2 ahead</th>
                    <th>next, last</th>
                    <th className="num">heat</th>
                  </tr>
                </thead>
                <tbody>
                  {load.data && load.data.limit > 0 && <LoadStrip load={load.data} />}
                  {list.map((w) => (
                    <WatchedRow key={w.serial} w={w} alerts={of(w)} now={now} edit={() => start(plans.data.find((p) => p.id === w.plan))} />
                  ))}
                </tbody>
              </Table>
            </Scroll>
          </Section>
          {editing && (
            <aside>
              <PlanForm
                key={editing.plan?.id ?? 0}
                was={editing.plan}
                benches={benches.map((b) => ({ name: b.name, title: b.title }))}
                busy={orders.setPlan.isPending}
                wrong={(orders.setPlan.error ?? orders.endPlan.error)?.message}
                save={(p) => orders.setPlan.mutate(p, done)}
                end={editing.plan && (() => orders.endPlan.mutate(editing.plan?.id ?? 0, done))}
                close={() => edit(undefined)}
              />
            </aside>
          )}
        </Two>
      )}
      <Keys>
        <span>
          <kbd>n</kbd> a new plan
        </span>
        <span>
          <kbd>a</kbd> alerts
        </span>
        <span>
          <kbd>b</kbd> back to the bench
        </span>
        <Link to="/alerts">What was told</Link>
      </Keys>
    </>
  );
}
