import { useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { usePerson } from "../data/person";
import {
  useComparison,
  useDesk,
  useDrive,
  useHistory,
  useOrders,
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
import { Bar, Button, Keys, NotAvailable, Section, Serial, State, Wrong } from "../parts/basics";
import { CheckMenu, ReworkMenu } from "../parts/CheckMenu";
import { CounterTable, counterPages, DeviceStatistics, readingLine } from "../parts/Counters";
import { DutyDialog, HandoverDialog } from "../parts/DeskDialogs";
import { DespiteDialog, OverruleDialog, ReleaseDialog, ReworkDialog } from "../parts/Dialogs";
import { bayShort, benchOf, dateOf, dayOf, left, number, size } from "../parts/format";
import { LoggedErrors, SelfTests, Sweeps } from "../parts/Logs";
import { gradeColor } from "../parts/marks";
import { ChooseReadings, Papers, SiblingSection, VolumeSection } from "../parts/Papers";
import type { Place } from "../parts/places";
import { RawPages } from "../parts/RawPages";
import { overWhat, placeOf, QuietSignals, SignalFigure, sift } from "../parts/SignalFigure";
import { SinceLastVisit, Timeline } from "../parts/Timeline";
import { VerdictPanel } from "../parts/VerdictPanel";
import { color, medium, narrow } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Ident = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 0 24px; display: flex; align-items: center; white-space: nowrap; background: ${color.paper}; position: sticky; top: 0; z-index: 5; gap: 0;
  & > span { margin-right: 24px; }
  & dl { display: flex; flex: 1; min-width: 0; }
  & dl > div { padding: 0 16px; border-left: 1px solid ${color.rule}; min-width: 0; }
  & dt { font-size: 13px; line-height: 18px; color: ${color.ink3}; }
  & dd { overflow: hidden; text-overflow: ellipsis; }
  & .do { display: flex; gap: 8px; }
  & .running { width: 200px; font-size: 13px; line-height: 18px; }
  @media (max-width: ${medium}px) { position: static; flex-wrap: wrap; white-space: normal; padding: 12px 24px; gap: 12px 0; & dl { flex: 1 1 100%; flex-wrap: wrap; row-gap: 8px; } & dl > div:first-child { border-left: 0; padding-left: 0; } }
  @media (max-width: ${narrow}px) { & .do { flex-wrap: wrap; } }
`;
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

function kind(d: Drive): string {
  const sector = d.logical_sector && ![512, 4096].includes(d.logical_sector) ? `${d.logical_sector}-byte sectors` : undefined;
  const how = d.rotation_rate ? `${number(d.rotation_rate)}/min` : d.medium === "flash" ? "flash" : undefined;
  const hidden = d.hidden ? `${size(d.hidden)} hidden` : undefined;
  return [d.model, d.bytes && size(d.bytes), how, sector, hidden].filter(Boolean).join(" · ");
}

function dataWords(d: Drive): string {
  const i = d.intake;
  if (!i) return "not asked";
  const data = !i.wanted ? "not wanted" : i.copied ? "wanted, copied" : "wanted, not copied";
  return i.release ? `${data}; released for ${i.release.scope}` : data;
}

function Identity({
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
  const facts: [string, string][] = [["Drive", kind(drive)]];
  if (drive.bay) facts.push(["Bay", [drive.bay, ...(drive.other_bays ?? [])].map(bayShort).join(" and ")]);
  if (drive.intake)
    facts.push([
      drive.intake.ticket ? `Ticket ${drive.intake.ticket}` : `Intake ${drive.intake.id}`,
      drive.intake.customer ?? drive.intake.complaint ?? "taken in",
    ]);
  facts.push(["Data", dataWords(drive)]); // the duty stands with the verdict
  return (
    <Ident aria-label="Identity">
      <Serial serial={drive.serial} />
      <dl>
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd title={value}>{value}</dd>
          </div>
        ))}
      </dl>
      <div className="do">
        {run ? (
          <>
            <div className="running">
              <Link to={`/runs/${run.id}`}>
                <b>
                  {run.standing.words}, {run.percent} %
                </b>
              </Link>
              <p>{left(run.left_s)} left</p>
              <Bar percent={run.percent} label="Progress of the check" />
            </div>
            <Button onPress={stop}>Stop</Button>
          </>
        ) : !known ? null : drive.bay ? (
          <>
            <Button onPress={read} aria-keyshortcuts="r">
              Read now
            </Button>
            <CheckMenu start={check} />
            {rework && drive.intake && <ReworkMenu release={drive.intake.release} start={rework} record={() => rework("release")} />}
          </>
        ) : (
          <span>
            <NotAvailable reason="in no bay" />
          </span>
        )}
      </div>
    </Ident>
  );
}

const ThenBox = styled.nav`
  display: flex; flex-wrap: wrap; align-items: center; gap: 4px 24px; padding: 0 24px; min-height: 44px; background: ${color.well}; border-bottom: 1px solid ${color.rule};
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
  const volumes = useVolumes(serial);
  const [handing, handOver] = useState(false);
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
  const [overruling, overrule] = useState(false);
  const [meaning, mean] = useState(false);
  const [despite, askDespite] = useState<CheckKind>();
  const [reworking, setReworking] = useState<ReworkKind | "release">();
  const bench = useService().data?.benches.find((b) => b.name === benchOf(drive.bay ?? ""));
  const canWrite = bench?.rework;
  const start = (kind: CheckKind) => (drive.intake?.at_risk ? askDespite(kind) : check(serial, kind));
  const [place, setPlace] = useState<Place>();
  const rawRef = useRef<HTMLElement>(null);
  const go = useNavigate();
  useShortcuts({
    b: () => go("/"),
    c: () => runs.data && !run && drive.bay && start("quick"),
    r: () => drive.bay && asPerson(() => orders.read.mutate(serial)),
  });

  const follow = (to: Place) => {
    setPlace(to);
    rawRef.current?.scrollIntoView({ block: "start" });
  };
  const v = verdict.data;
  const ink = gradeColor[v?.grade ?? "undecided"];
  const sorted = signals.data && sift(signals.data.signals);
  const testFault = reading.data?.faults.find((f) => ["ata/log-06", "nvme/log-06", "scsi/log-10"].includes(f.page ?? ""));
  return (
    <>
      <title>{`${serial} · Hylostat`}</title>
      <Identity
        drive={drive}
        known={runs.data !== undefined || runs.isError}
        run={run}
        check={start}
        rework={
          canWrite
            ? (kind) => {
                orders.rework.reset();
                orders.release.reset();
                asPerson(() => setReworking(kind));
              }
            : undefined
        }
        read={() => asPerson(() => orders.read.mutate(serial))}
        stop={() => run && asPerson(() => orders.stop.mutate(run.id))}
      />
      {then && <Then serial={serial} reading={then} of={drive.readings} at={reading.data?.at} wrong={reading.error?.message} />}
      <Two>
        {v ? (
          <VerdictPanel
            verdict={v}
            busy={orders.sign.isPending}
            follow={then ? undefined : follow}
            sign={() => asPerson(() => orders.sign.mutate({ serial, verdict: v.seq }))}
            overrule={() => asPerson(() => overrule(true))}
            mean={then ? undefined : () => asPerson(() => mean(true))}
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
          <Papers
            drive={drive}
            handOver={() => {
              desk.handOver.reset();
              asPerson(() => handOver(true));
            }}
          />
          {volumes.data !== undefined && (
            <VolumeSection
              volumes={volumes.data}
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
              <RawPages reading={reading.data} place={place ?? firstPlace(reading.data)} choose={setPlace} />
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
      {despite && (
        <DespiteDialog
          title={`A ${despite} check`}
          close={() => askDespite(undefined)}
          done={(why) => {
            check(serial, despite, why);
            askDespite(undefined);
          }}
        />
      )}
      {reworking === "release" && (
        <ReleaseDialog
          wrong={orders.release.error?.message}
          close={() => setReworking(undefined)}
          done={(scope, owner) => orders.release.mutate({ serial, scope, owner }, { onSuccess: () => setReworking(undefined) })}
        />
      )}
      {reworking && reworking !== "release" && (
        <ReworkDialog
          kind={reworking}
          bay={drive.bay ?? ""}
          wrong={orders.rework.error?.message}
          busy={orders.rework.isPending}
          close={() => setReworking(undefined)}
          done={(ending) => orders.rework.mutate({ serial, kind: reworking, ending }, { onSuccess: (r) => go(`/runs/${r.id}`) })}
        />
      )}
      {handing && drive.intake && (
        <HandoverDialog
          intake={drive.intake}
          unsigned={!v?.signed}
          wrong={desk.handOver.error?.message}
          busy={desk.handOver.isPending}
          close={() => handOver(false)}
          done={(h) => desk.handOver.mutate({ intake: drive.intake?.id ?? 0, ...h }, { onSuccess: () => handOver(false) })}
        />
      )}
      {meaning && v && (
        <DutyDialog
          now={v.duty}
          wrong={orders.duty.error?.message}
          busy={orders.duty.isPending}
          close={() => mean(false)}
          done={(duty) => orders.duty.mutate({ serial, duty }, { onSuccess: () => mean(false) })}
        />
      )}
      {overruling && v && (
        <OverruleDialog
          grade={v.grade}
          wrong={orders.sign.error?.message}
          close={() => overrule(false)}
          done={(grade, reason) => orders.sign.mutate({ serial, verdict: v.seq, grade, reason }, { onSuccess: () => overrule(false) })}
        />
      )}
    </>
  );
}
