import { useCallback, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { useDesk, useOrders } from "../data/orders";
import { usePerson } from "../data/person";
import {
  useBytes,
  useComparison,
  useDrive,
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
} from "../data/queries";
import type { CheckKind, Drive, Reading, ReworkKind, Run } from "../data/types";
import { Bar, Button, Keys, NotAvailable, Section, State, Wrong } from "../parts/basics";
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
import { color, medium, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Two = styled.div`
  display: grid; grid-template-columns: 392px minmax(0, 816px); gap: 24px; padding: 16px 24px 24px; align-items: start;
  & > div { display: grid; gap: 16px; min-width: 0; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const Low = styled.div`
  display: grid; grid-template-columns: 392px minmax(0, 816px); gap: 24px; padding: 0 24px 40px; align-items: start;
  & > div { display: grid; gap: 40px; min-width: 0; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const Figures = styled.div`display: grid; grid-template-columns: repeat(auto-fill, 192px); gap: 4px 16px; justify-content: space-between;`;
const Key = styled.p`margin-left: auto; display: flex; gap: 16px;`;

function dataWords(d: Drive): string {
  const i = d.intake;
  if (!i) return "not asked";
  const data = !i.wanted ? "not wanted" : i.copied ? "wanted, copied" : "wanted, not copied";
  return i.release ? `${data}; released for ${i.release.scope}` : data;
}

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
  const drive = useDrive(asked);
  if (drive.isError && !drive.data) return <Wrong error={drive.error} retry={() => drive.refetch()} />;
  if (!drive.data) return <State title="Fetching the drive" />;
  return <KnownDrive drive={drive.data} />;
}

function KnownDrive({ drive }: { drive: Drive }) {
  const serial = drive.serial;
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
    overrule: stands(orders.sign),
  };
  const done = { onSuccess: () => ask(undefined) };
  const question = (q: DriveQuestion) => {
    // what went wrong before is over
    for (const m of [orders.release, orders.rework, desk.handOver, desk.putRight, orders.duty, orders.sign]) m.reset();
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
          <Papers drive={drive} putRight={() => question({ about: "correction" })} handOver={() => question({ about: "handover" })} />
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
          overrule: (grade, reason) => orders.sign.mutate({ serial, verdict: v?.seq ?? 0, grade, reason }, done),
        }}
      />
    </>
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
