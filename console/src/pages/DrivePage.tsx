import { useCallback, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { apiPath } from "../data/base";
import { useAlertOrders, useDesk, useOrders } from "../data/orders";
import { usePerson } from "../data/person";
import {
  useAcceptedOf,
  useAlertsOf,
  useBytes,
  useComparison,
  useDrivePage,
  useHistory,
  useReading,
  useReadings,
  useRuns,
  useService,
  useSiblings,
  useSignals,
  useSweeps,
  useVerdict,
  useVolumes,
  useWatch,
} from "../data/queries";
import { useShopTime } from "../data/time";
import type { Alert, CheckKind, Drive, Reading, ReworkKind, Run } from "../data/types";
import { SettleDialog } from "../parts/AlertDialogs";
import { AcceptedRow, AlertGlyph, ago, standsOf, thenOf } from "../parts/AlertParts";
import { Bar, Button, Keys, LinkButton, NotAvailable, Section, State, Wrong } from "../parts/basics";
import { CheckMenu, ReworkMenu } from "../parts/CheckMenu";
import { CounterTable, counterPages, DeviceStatistics, readingLine } from "../parts/Counters";
import { DriveDialogs, type DriveQuestion } from "../parts/DriveDialogs";
import { DriveHeader, kindOf, ticketOf } from "../parts/DriveHeader";
import { bayShort, benchOf, dateOf, dayOf, left } from "../parts/format";
import { LoggedErrors, SelfTests, Sweeps } from "../parts/Logs";
import { gradeColor } from "../parts/marks";
import { ChooseReadings, Papers, SiblingSection, VolumeSection } from "../parts/Papers";
import type { Place } from "../parts/places";
import { RawPages } from "../parts/RawPages";
import { overWhat, placeOf, QuietSignals, SignalFigure, sift } from "../parts/SignalFigure";
import { SinceLastVisit, Timeline } from "../parts/Timeline";
import { VerdictPanel } from "../parts/VerdictPanel";
import { WatchNow } from "../parts/WatchParts";
import { color, medium, phone, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Two = styled.div`
  display: grid; grid-template-columns: 392px minmax(0, 816px); gap: 24px; padding: 16px 24px 24px; align-items: start;
  & > div { display: grid; gap: 16px; min-width: 0; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
  @media (max-width: ${phone}px) { padding: 8px 8px 16px; & footer { display: none; } }
`;
const Low = styled.div`
  display: grid; grid-template-columns: 392px minmax(0, 816px); gap: 24px; padding: 0 24px 40px; align-items: start;
  & > div { display: grid; gap: 40px; min-width: 0; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const Figures = styled.div`display: grid; grid-template-columns: repeat(auto-fill, 192px); gap: 4px 16px; justify-content: space-between;
  @media (max-width: ${phone}px) { grid-template-columns: repeat(auto-fill, minmax(160px, 1fr)); gap: 4px 12px; }`;
const Key = styled.p`margin-left: auto; display: flex; gap: 16px;`;

function dataWords(d: Drive): string {
  const i = d.intake;
  if (!i) return "not asked";
  const data = !i.wanted ? "not wanted" : i.copied ? "wanted, copied" : "wanted, not copied";
  return i.release ? `${data}; released for ${i.release.scope}` : data;
}

const ThumbBar = styled.nav`
  display: none;
  @media (max-width: ${phone}px) { display: grid; grid-template-columns: 1fr 1fr; gap: 8px; position: sticky; bottom: 0; z-index: 6;
    padding: 8px 16px max(8px, env(safe-area-inset-bottom)); background: ${color.paper}; border-top: 2px solid ${color.ink};
    & > * { min-width: 0; white-space: normal; text-align: center; line-height: 18px; } }
`;
const AlertList = styled.ul`
  & li { display: grid; grid-template-columns: 16px minmax(0, 1fr) auto; gap: 8px; padding: 8px 0; border-bottom: 1px solid ${color.rule};
    align-items: start; } & svg { margin-top: 3px; } & small { ${text.small} color: ${color.ink2}; }
`;
const Running = styled.div`width: 200px; ${text.small}`;

/** What can be done with a drive now, or how what is being done stands. */
function Doing({
  drive,
  known,
  run,
  check,
  read,
  rework,
  stop,
}: {
  drive: Drive;
  known: boolean; // whether it is being checked
  run?: Run;
  check: (kind: CheckKind) => void;
  rework?: (kind: ReworkKind | "release") => void;
  read: () => void;
  stop: () => void;
}) {
  if (run)
    return (
      <div className="do">
        <Running>
          <Link to={`/runs/${run.id}`}>
            <b>
              {run.standing.words}, {run.percent} %
            </b>
          </Link>
          <p>{left(run.left_s)} left</p>
          <Bar percent={run.percent} label="Progress of the check" />
        </Running>
        <Button onPress={stop}>Stop</Button>
      </div>
    );
  if (!known) return <div className="do" />;
  if (!drive.bay) return <NotAvailable reason="in no bay" />;
  return (
    <div className="do">
      <Button onPress={read} aria-keyshortcuts="r">
        Read now
      </Button>
      <CheckMenu start={check} />
      {rework && drive.intake && <ReworkMenu release={drive.intake.release} start={rework} record={() => rework("release")} />}
    </div>
  );
}

function factsOf(d: Drive): [string, string][] {
  const bay: [string, string][] = d.bay ? [["Bay", [d.bay, ...(d.other_bays ?? [])].map(bayShort).join(" and ")]] : [];
  return [["Drive", kindOf(d)], ...bay, ...ticketOf(d), ["Data", dataWords(d)]]; // the duty stands with the verdict
}

const ThenBox = styled.nav`
  display: flex; flex-wrap: wrap; align-items: center; gap: 4px 24px; padding: 0 24px; min-height: 44px;
  background: ${color.well}; border-bottom: 1px solid ${color.rule};
  & a { min-height: 44px; display: inline-flex; align-items: center; }
`;

/** Says that a page shows an earlier moment, and leads to the ones beside it and back to now. */
function Then({ serial, reading, of, at, wrong }: { serial: string; reading: number; of: number; at?: string; wrong?: string }) {
  const to = (n: number) => `/drives/${encodeURIComponent(serial)}?reading=${n}`;
  return (
    <ThenBox aria-label="Moments">
      <b>
        {wrong ?? `Counters, bytes and comparison as at reading ${reading} of ${of}${at ? `, ${dateOf(at)}` : ""}. The verdict is today's.`}
      </b>
      {reading > 1 && <Link to={to(reading - 1)}>Reading before</Link>}
      {reading < of && <Link to={to(reading + 1)}>Reading after</Link>}
      <Link to={`/drives/${encodeURIComponent(serial)}`}>Now</Link>
    </ThenBox>
  );
}

/** The page people look for first: the drive's counters. */
function firstPlace(r: Reading): Place {
  const page = ["ata/attributes", ...counterPages].find((name) => r.pages.some((p) => p.name === name && !p.fault));
  return { page: page ?? "", offset: 0, length: 0 };
}

/** A drive: the answer with its reasons, what changed, its signals over its life, and down to the bytes. */
export default function DrivePage() {
  const asked = useParams().serial ?? "";
  const drive = useDrivePage(asked);
  if (drive.isError && !drive.data) return <Wrong error={drive.error} retry={() => drive.refetch()} />;
  if (!drive.data) return <State title="Fetching the drive" />;
  return <KnownDrive drive={drive.data} />;
}

function KnownDrive({ drive }: { drive: Drive }) {
  const serial = drive.serial;
  const today = (useService().data?.time ?? new Date().toISOString()).slice(0, 10);
  const person = usePerson();
  const orders = useOrders(person.name);
  const desk = useDesk(person.name);
  const readings = useReadings(serial);
  const siblings = useSiblings(serial);
  const volumes = useVolumes(drive);
  const [asked, ask] = useState<DriveQuestion>();
  const { asPerson, check } = useActions();
  const verdict = useVerdict(serial);
  const signals = useSignals(serial);
  const [search] = useSearchParams();
  const then = Number(search.get("reading")) || undefined; // a moment of its life instead of now
  const before = Number(search.get("before")) || (then && Math.max(1, then - 1));
  const comparison = useComparison(serial, before, then);
  const history = useHistory(serial);
  const reading = useReading(serial, then ? String(then) : "latest");
  const runs = useRuns(serial);
  const run = runs.data?.[0];
  const sweeps = useSweeps(serial);
  const bench = useService().data?.benches.find((b) => b.name === benchOf(drive.bay ?? ""));
  const canWrite = bench?.rework;
  const start = (kind: CheckKind) => (drive.intake?.at_risk ? ask({ about: "despite", check: kind }) : check(serial, kind));
  const [place, setPlace] = useState<Place>();
  const [raw, rawRef, looked] = useLooked();
  const bytes = useBytes(serial, then ? String(then) : "latest", looked || place !== undefined).data;
  const go = useNavigate();
  useShortcuts({
    b: () => go("/"),
    c: () => runs.data && !run && drive.bay && start("quick"),
    r: () => drive.bay && asPerson(() => orders.read.mutate(serial)),
  });

  const stands = (m: { error: Error | null; isPending: boolean }) => ({ wrong: m.error?.message, busy: m.isPending });
  const given = {
    despite: { busy: false },
    release: stands(orders.release),
    rework: stands(orders.rework),
    handover: stands(desk.handOver),
    correction: stands(desk.putRight),
    duty: stands(orders.duty),
    outcome: stands(orders.outcome),
    overrule: stands(orders.sign),
  };
  const done = { onSuccess: () => ask(undefined) };
  const question = (q: DriveQuestion) => {
    // what went wrong before is over
    for (const m of [orders.release, orders.rework, desk.handOver, desk.putRight, orders.duty, orders.sign, orders.outcome]) m.reset();
    asPerson(() => ask(q));
  };
  const follow = (to: Place) => {
    setPlace(to);
    raw.current?.scrollIntoView({ block: "start" });
  };
  const v = verdict.data;
  const ink = gradeColor[v?.grade ?? "undecided"];
  const sorted = signals.data && sift(signals.data.signals);
  const testFault = reading.data?.faults.find((f) => ["ata/log-06", "nvme/log-06", "scsi/log-10"].includes(f.page ?? ""));
  return (
    <>
      <title>{`${serial} · Hylostat`}</title>
      <DriveHeader serial={serial} facts={factsOf(drive)}>
        <Doing
          drive={drive}
          known={runs.data !== undefined || runs.isError}
          run={run}
          check={start}
          rework={canWrite ? (kind) => question(kind === "release" ? { about: "release" } : { about: "rework", kind }) : undefined}
          read={() => asPerson(() => orders.read.mutate(serial))}
          stop={() => run && asPerson(() => orders.stop.mutate(run.id))}
        />
      </DriveHeader>
      {then && <Then serial={serial} reading={then} of={drive.readings} at={reading.data?.at} wrong={reading.error?.message} />}
      <Two>
        {v ? (
          <VerdictPanel
            visit={then ? undefined : drive.last_visit}
            verdict={v}
            busy={orders.sign.isPending}
            follow={then ? undefined : follow}
            sign={() => asPerson(() => orders.sign.mutate({ serial, verdict: v.seq }))}
            overrule={() => question({ about: "overrule" })}
            mean={then ? undefined : () => question({ about: "duty" })}
          />
        ) : (
          <State title={verdict.isError ? "No verdict" : "Fetching the verdict"}>{verdict.isError && verdict.error.message}</State>
        )}
        <div>
          {comparison.data && (
            <SinceLastVisit
              comparison={comparison.data}
              title={then ? `Since reading ${comparison.data.before.seq}` : undefined}
              place={(name) => {
                const found = signals.data?.signals.find((s) => s.name === name);
                return found && placeOf(found);
              }}
              follow={follow}
            >
              {readings.data && readings.data.length > 2 && (
                <ChooseReadings
                  readings={readings.data}
                  before={comparison.data.before.seq}
                  now={comparison.data.now.seq}
                  choose={(b, n) => go(`/drives/${encodeURIComponent(serial)}?reading=${n}&before=${b}`, { preventScrollReset: true })}
                />
              )}
            </SinceLastVisit>
          )}
          {signals.data && sorted && (
            <Section>
              <header>
                <h2>Signals</h2>
                <p>
                  {signals.data.readings} {signals.data.readings === 1 ? "reading" : "readings"}
                  {overWhat(signals.data)}
                </p>
                <Key>
                  <span>short tick: quick check</span>
                  <span>line: this visit</span>
                </Key>
              </header>
              <Figures>
                {sorted.drawn.map((s, i) => (
                  <SignalFigure
                    key={s.name}
                    signal={s}
                    all={signals.data}
                    ink={ink}
                    follow={follow}
                    axis={i >= sorted.drawn.length - (sorted.drawn.length % 4 || 4)}
                  />
                ))}
              </Figures>
              <QuietSignals zero={sorted.zero} missing={sorted.missing} disagreeing={sorted.disagreeing} />
            </Section>
          )}
        </div>
      </Two>
      <Low>
        <div>
          {!then && <WatchSection serial={serial} />}
          <Papers
            drive={drive}
            putRight={() => question({ about: "correction" })}
            handOver={() => question({ about: "handover" })}
            became={() => question({ about: "outcome" })}
          />
          {(volumes.data || !drive.volumes_at) && (
            <VolumeSection
              volumes={volumes.data ?? null}
              busy={orders.volumes.isPending}
              look={drive.bay && !run && !drive.intake?.at_risk ? () => asPerson(() => orders.volumes.mutate(serial)) : undefined}
            />
          )}
          {siblings.data && <SiblingSection siblings={siblings.data} />}
          {history.data && <Timeline entries={history.data} />}
        </div>
        {reading.data && (
          <div>
            <Section>
              <header>
                <h2>Counters</h2>
                <p>{readingLine(reading.data)}</p>
              </header>
              <CounterTable reading={reading.data} follow={follow} />
            </Section>
            {drive.interface === "ata" && <DeviceStatistics reading={reading.data} follow={follow} />}
            <SelfTests tests={reading.data.self_tests} fault={reading.data.tests_known ? undefined : testFault} follow={follow} />
            {sweeps.data && <Sweeps sweeps={sweeps.data} />}
            <LoggedErrors reading={reading.data} follow={follow} />
            <Section ref={rawRef}>
              <header>
                <h2>Raw pages</h2>
                <p>
                  kept as the drive sent them, {dayOf(reading.data.at)}, in {reading.data.took_ms || "under 1"} ms
                </p>
              </header>
              <RawPages reading={bytes ?? reading.data} place={place ?? firstPlace(reading.data)} choose={setPlace} />
            </Section>
          </div>
        )}
      </Low>
      <ThumbBar aria-label="Actions">
        {v && !v.signed && v.grade !== "undecided" && (
          <Button $filled onPress={() => asPerson(() => orders.sign.mutate({ serial, verdict: v.seq }))} isDisabled={orders.sign.isPending}>
            Sign: {v.grade}
          </Button>
        )}
        {drive.intake && !drive.intake.handover && <Button onPress={() => question({ about: "handover" })}>Hand over …</Button>}
        <LinkButton href={apiPath(`/drives/${encodeURIComponent(serial)}/label?format=pdf`)} target="_blank">
          Label again
        </LinkButton>
        <Button onPress={() => question({ about: "outcome" })}>What became of it …</Button>
      </ThumbBar>
      <Keys>
        {drive.bay && (
          <>
            <span>
              <kbd>c</kbd> quick check
            </span>
            <span>
              <kbd>r</kbd> read now
            </span>
          </>
        )}
        <span>
          <kbd>b</kbd> back to the bench
        </span>
      </Keys>
      <DriveDialogs
        today={today}
        asked={asked}
        drive={drive}
        verdict={v}
        given={asked ? given[asked.about] : { busy: false }}
        close={() => ask(undefined)}
        answer={{
          despite: (kind, why) => {
            check(serial, kind, why);
            ask(undefined);
          },
          release: (scope, owner) => orders.release.mutate({ serial, scope, owner }, done),
          rework: (kind, ending) => orders.rework.mutate({ serial, kind, ending }, { onSuccess: (r) => go(`/runs/${r.id}`) }),
          handover: (h) => desk.handOver.mutate({ intake: drive.intake?.id ?? 0, serial, ...h }, done),
          correction: (right) => desk.putRight.mutate({ intake: drive.intake?.id ?? 0, serial, ...right }, done),
          duty: (duty) => orders.duty.mutate({ serial, duty }, done),
          outcome: (o) => orders.outcome.mutate({ serial, ...o }, done),
          overrule: (grade, reason) => orders.sign.mutate({ serial, verdict: v?.seq ?? 0, grade, reason }, done),
        }}
      />
    </>
  );
}

/** How the drive is watched, what was told of it, and what of it is known. */
function WatchSection({ serial }: { serial: string }) {
  const watch = useWatch(serial);
  const alerts = useAlertsOf(serial);
  const accepted = useAcceptedOf(serial);
  const now = useShopTime();
  const orders = useAlertOrders(usePerson().name);
  const { asPerson } = useActions();
  const [settling, settle] = useState<Alert>();
  const list = alerts.data ?? [];
  if (!watch.data && list.length === 0 && (accepted.data ?? []).length === 0)
    return (
      <Section>
        <header>
          <h2>Watch</h2>
          <p>{watch.isError ? "it is read when somebody asks for it" : "fetching"}</p>
          <Link to="/watch">Watch it …</Link>
        </header>
      </Section>
    );
  return (
    <Section>
      <header>
        <h2>Watch</h2>
        <p>
          <Link to="/alerts">all alerts</Link> · <Link to="/watch">all plans</Link>
        </p>
      </header>
      {watch.data && <WatchNow w={watch.data} alerts={list} now={now} />}
      <AlertList aria-label="Alerts of this drive">
        {list.slice(0, 6).map((a) => (
          <li key={a.id}>
            <AlertGlyph kind={a.kind} />
            <div>
              <p>{a.words.words}</p>
              <small>
                {standsOf(a)}, {ago(a.moved, now)} ago
                {a.reading && (
                  <>
                    {" "}
                    · <Link to={thenOf(a) ?? ""}>as it was then</Link>
                  </>
                )}
              </small>
            </div>
            {a.state === "open" && <Button onPress={() => asPerson(() => orders.take.mutate({ alert: a.id, serial }))}>Take on</Button>}
            {a.state === "taken" && <Button onPress={() => asPerson(() => settle(a))}>Settle</Button>}
          </li>
        ))}
      </AlertList>
      <ul>
        {accepted.data?.map((a) => (
          <AcceptedRow key={a.signal} a={a} end={() => asPerson(() => orders.speakAgain.mutate({ serial, signal: a.signal }))} />
        ))}
      </ul>
      {settling && (
        <SettleDialog
          alert={settling}
          wrong={orders.settle.error?.message}
          close={() => settle(undefined)}
          done={(note) =>
            orders.settle.mutate({ alert: settling.id, serial, note: note || undefined }, { onSuccess: () => settle(undefined) })
          }
        />
      )}
    </Section>
  );
}

/** Whether a part of the page has been scrolled to, once it has: what it shows is asked for then. */
function useLooked(): [React.RefObject<HTMLElement | null>, (e: HTMLElement | null) => void, boolean] {
  const element = useRef<HTMLElement>(null);
  const [looked, look] = useState(false);
  const watch = useCallback((e: HTMLElement | null) => {
    element.current = e;
    if (!e) return;
    const observer = new IntersectionObserver((seen) => seen.some((s) => s.isIntersecting) && look(true), { rootMargin: "400px" });
    observer.observe(e);
    return () => observer.disconnect();
  }, []);
  return [element, watch, looked];
}
