import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { useLive } from "../data/live";
import { usePerson } from "../data/person";
import { useDifferences, useDrive, useOrders, useRework, useRun, useSweep, useSweeps } from "../data/queries";
import type { Drive, Rework, Run, Step, Sweep, SweepStanding, SweepSummary } from "../data/types";
import { Button, Keys, Scroll, Section, Serial, State, Table, Wrong } from "../parts/basics";
import { OverMenu } from "../parts/CheckMenu";
import { type Cells, emptyCells, fill, spots } from "../parts/cells";
import { bayShort, clockOf, left, momentOf, number, size, spot } from "../parts/format";
import { VerdictWord } from "../parts/marks";
import { Ribbon } from "../parts/Ribbon";
import { hidden } from "../theme/Global";
import { color, medium } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Ident = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 0 24px; display: flex; align-items: center; white-space: nowrap; gap: 24px;
  & dl { display: flex; flex: 1; min-width: 0; }
  & dl > div { padding: 0 16px; border-left: 1px solid ${color.rule}; min-width: 0; }
  & dt { font-size: 13px; line-height: 18px; color: ${color.ink3}; }
  & dd { overflow: hidden; text-overflow: ellipsis; }
  & .serial { text-decoration: none; }
  & .verdict { display: flex; align-items: center; gap: 8px; font-size: 18px; line-height: 26px; font-weight: 600; }
  & .verdict small { font-size: 13px; font-weight: 400; color: ${color.ink3}; }
  @media (max-width: ${medium}px) { flex-wrap: wrap; white-space: normal; padding: 12px 24px; & dl { flex: 1 1 100%; flex-wrap: wrap; row-gap: 8px; } }
`;
const Head = styled.section`
  display: grid; grid-template-columns: minmax(0, 1fr) auto auto; gap: 24px; padding: 16px 24px 0; align-items: start;
  & .left { text-align: right; white-space: nowrap; min-width: 168px; }
  & .left b { display: block; font-size: 36px; line-height: 36px; }
  & .left span { font-size: 13px; line-height: 18px; color: ${color.ink2}; }
  & .do { display: flex; gap: 8px; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); & .left { text-align: left; } }
`;
const Steps = styled.ol`
  display: flex; flex-wrap: wrap; gap: 12px;
  & li { border-top: 2px solid ${color.ink}; padding-top: 6px; min-height: 52px; min-width: 144px; max-width: 260px; position: relative; }
  & li.now { border-top-color: transparent; min-width: 200px; }
  & li.now i { position: absolute; left: 0; top: -5px; height: 8px; background: ${color.ink}; }
  & li.now::after { content: ""; position: absolute; inset: -5px 0 auto 0; height: 8px; border: 1px solid ${color.edge}; }
  & li.todo, & li.skipped { border-top: 1px dashed ${color.edge}; padding-top: 7px; color: ${color.ink3}; }
  & li span { display: block; font-size: 13px; line-height: 18px; color: ${color.ink2}; }
`;
const Body = styled.div`padding: 12px 24px 0; min-height: 620px;`;
const Places = styled.div`padding: 40px 24px;`;
const Over = styled.div`
  display: flex; gap: 8px 12px; align-items: center; flex-wrap: wrap; padding: 8px 0 0 88px; font-size: 13px; line-height: 18px; color: ${color.ink2};
  @media (max-width: 700px) { padding-left: 0; }
`;
const Words = styled.ul`padding: 8px 0 0 88px; font-size: 15px; line-height: 22px; & li::before { content: "\\2013\\00A0"; color: ${color.ink3}; } @media (max-width: 700px) { padding-left: 0; }`;

function StepItem({ step, n }: { step: Step; n: number }) {
  const now = step.state === "begun" || step.state === "unknown";
  const state = now ? "now" : step.state === "pending" ? "todo" : step.state;
  const sweep = step.sweep;
  const percent = sweep ? Math.floor(100 * sweep.share) : step.percent;
  const words = now
    ? sweep
      ? `${percent} %, ${size(sweep.share * sweep.sectors * sweep.logical, 2)} of ${size(sweep.sectors * sweep.logical)}`
      : `${percent} %`
    : (step.note?.words ?? (step.ended ? clockOf(step.ended) : ""));
  return (
    <li className={state}>
      {now && <i style={{ width: `${percent}%` }} />}
      <b>
        {n}&ensp;{step.title}
      </b>
      <span>{words}</span>
    </li>
  );
}

/** The sweep's step, as it stands: of several, the one that goes on or came last. */
const sweepStep = (run: Run): Step | undefined =>
  run.steps.findLast((s) => s.sweep && s.state !== "pending") ?? run.steps.findLast((s) => s.sweep);

const reworks = ["mend", "renew", "overwrite"];

function label(run: Run, s: SweepStanding): string {
  const found = s.words.length > 0 ? s.words.map((w) => w.words).join(" ") : "Nothing found so far.";
  return `Ribbon of run ${run.id}, ${Math.floor(100 * s.share)} percent swept. ${found} The table below holds the same facts.`;
}

interface Row {
  key: string;
  where: string;
  lba: string;
  what: string;
  evidence: string;
}

/** The places of a sweep, in the order of the surface: exact ones when it has ended, the ribbon's cells while it goes on. */
function places(sweep: Sweep | null | undefined, cells: Cells | undefined, s: SweepStanding, ended: boolean): Row[] {
  const where = (lba: number) => spot(lba * s.logical, s.sectors * s.logical, 1);
  if (ended && sweep) {
    const ranges = sweep.ranges.map((r) => ({
      at: r.lba,
      row: {
        key: `r${r.lba}`,
        where: where(r.lba),
        lba: r.sectors > 1 ? `${number(r.lba)} to ${number(r.lba + r.sectors - 1)}` : number(r.lba),
        what: r.unreadable ? `${number(r.physical)} ${r.physical === 1 ? "sector" : "sectors"} unreadable` : r.cause,
        evidence: r.unreadable ? `${r.cause}; narrowed down` : "",
      },
    }));
    const slow = sweep.slow.map((p) => ({
      at: p.lba,
      row: {
        key: `s${p.lba}`,
        where: where(p.lba),
        lba: `${number(p.lba)} to ${number(p.lba + p.sectors - 1)}`,
        what: `slow, class ${p.class}`,
        evidence: p.words.words,
      },
    }));
    return [...ranges, ...slow].sort((a, b) => a.at - b.at).map((x) => x.row);
  }
  if (!cells) return [];
  const perCell = s.sectors / cells.count;
  return spots(cells).map((p) => {
    const first = Math.ceil(p.from * perCell);
    return {
      key: `c${p.from}`,
      where: where(first),
      lba: `from ${number(first)}`,
      what:
        p.unread > 0
          ? `${number(p.unread)} unreadable`
          : `${p.to - p.from === 1 ? "slow" : `${number(p.to - p.from)} cells slow`}, class ${p.worst}`,
      evidence: p.unread > 0 ? "exact sectors when the sweep has ended" : "read again at the end",
    };
  });
}

/** A run: its steps, the ribbon as it fills, and the table of the same facts. */
export default function RunPage() {
  const id = Number(useParams().run);
  const run = useRun(id);
  if (run.isError && !run.data) return <Wrong error={run.error} retry={() => run.refetch()} />;
  if (!run.data) return <State title="Fetching the run" />;
  return <KnownRun first={run.data} />;
}

function KnownRun({ first }: { first: Run }) {
  const sweep = useSweep(first.id);
  const open = first.state !== "done";
  const live = useLive(first.id, open, sweep.data);
  const run = open && live.run && live.run.state !== "done" ? live.run : first;
  const drive = useDrive(run.serial);
  const person = usePerson();
  const orders = useOrders(person.name);
  const { asPerson } = useActions();
  const go = useNavigate();
  useShortcuts({ b: () => go("/"), d: () => go(`/drives/${run.serial}`) });

  const step = sweepStep(run);
  const standing = step?.sweep ?? sweep.data?.standing;
  const going = open && step?.state === "begun";
  const ended = !!sweep.data?.ended;
  const others = useSweeps(run.serial).data?.filter((s) => s.run !== run.id && s.run < run.id && !isWriting(s)) ?? [];
  const [earlier, layOver] = useState<number>();
  const under = useSweep(earlier).data;
  const differences = useDifferences(run.id, ended ? earlier : undefined).data;
  const earlierCells = useMemo(() => {
    if (!under) return undefined;
    const cells = emptyCells(under.cells);
    fill(cells, under.segments);
    return cells;
  }, [under]);
  const rework = useRework(run.id, reworks.includes(run.kind)).data;
  const rows = standing ? places(sweep.data, live.cells, standing, ended) : [];
  return (
    <>
      <title>{`Run ${run.id} · Hylostat`}</title>
      <h1 style={hidden}>
        {run.title} of {run.serial}, run {run.id}
      </h1>
      <Identity run={run} drive={drive.data} />
      <Head aria-label="Steps">
        <Steps>
          {run.steps.map((s, i) => (
            <StepItem key={s.kind} step={s} n={i + 1} />
          ))}
        </Steps>
        <p className="left" aria-live="polite">
          {open ? (
            <>
              <b>{run.state === "paused" ? "waits" : left(run.left_s)}</b>
              <span>{run.state === "paused" ? run.pause?.words : `left, ${run.percent} % done`}</span>
            </>
          ) : (
            <>
              <b>{run.outcome}</b>
              <span>{run.ended && `ended ${clockOf(run.ended)}`}</span>
            </>
          )}
        </p>
        {open && (
          <div className="do">
            {run.state === "paused" ? (
              <Button $filled onPress={() => asPerson(() => orders.resume.mutate(run.id))}>
                Go on
              </Button>
            ) : (
              <Button isDisabled={!going} onPress={() => asPerson(() => orders.pause.mutate(run.id))}>
                Pause
              </Button>
            )}
            <Button onPress={() => asPerson(() => orders.stop.mutate(run.id))}>Stop</Button>
          </div>
        )}
      </Head>
      <Body>
        {standing && live.cells ? (
          <>
            <Ribbon
              cells={live.cells}
              version={live.version}
              share={standing.share >= 1 ? 1 : standing.lba / standing.sectors}
              bytes={standing.sectors * standing.logical}
              sector={standing.logical}
              speed={standing.speed}
              celsius={standing.celsius}
              heat={live.heat}
              spinning={!!standing.rpm}
              sample={!!standing.sample}
              label={label(run, standing)}
              live={going}
              exact={ended ? sweep.data?.ranges.filter((r) => r.unreadable) : undefined}
              earlier={earlierCells}
            />
            {others.length > 0 && (
              <Over>
                <OverMenu
                  sweeps={others.map((s) => ({ run: s.run, name: s.title.toLowerCase(), when: momentOf(s.ended ?? s.began) }))}
                  chosen={earlier}
                  choose={layOver}
                />
                {earlier && <span>its speed is the paler line, what it could not read a short bar under the ink</span>}
              </Over>
            )}
            {standing.words.length > 0 && (
              <Words>
                {standing.words.map(({ words }) => (
                  <li key={words}>{words}</li>
                ))}
              </Words>
            )}
          </>
        ) : (
          <State title={standing ? "The sweep has not begun" : sweep.isLoading ? "Fetching the sweep" : "No sweep of the surface here"}>
            {standing ? "Its ribbon fills here." : !sweep.isLoading && "This run takes readings and has the drive test itself."}
          </State>
        )}
      </Body>
      {rework && <Written rework={rework} />}
      {differences && earlier && (
        <Changes
          all={differences}
          earlier={earlier}
          sector={standing?.logical ?? 512}
          bytes={(standing?.sectors ?? 0) * (standing?.logical ?? 0)}
        />
      )}
      {standing && (
        <Places>
          <Section>
            <header>
              <h2>Places</h2>
              <p>
                {rows.length === 0
                  ? `nothing slow, nothing unreadable${ended ? "" : " so far"}`
                  : `${number(rows.length)} ${ended ? "" : "so far, "}in the order of the surface: the table of what the ribbon shows`}
              </p>
            </header>
            {rows.length > 0 && (
              <Scroll>
                <Table>
                  <thead>
                    <tr>
                      <th>where</th>
                      <th className="num">LBA</th>
                      <th>what</th>
                      <th>evidence</th>
                    </tr>
                  </thead>
                  <tbody>
                    {rows.slice(0, 200).map((r) => (
                      <tr key={r.key}>
                        <td>{r.where}</td>
                        <td className="num">{r.lba}</td>
                        <td>{r.what}</td>
                        <td className="soft">{r.evidence}</td>
                      </tr>
                    ))}
                  </tbody>
                </Table>
                {rows.length > 200 && <p>and {number(rows.length - 200)} more; the command line and the API list them all.</p>}
              </Scroll>
            )}
          </Section>
        </Places>
      )}
      <Keys>
        <span>
          <kbd>Tab</kbd> and arrows lead along the ribbon, <kbd>Enter</kbd> closer
        </span>
        <span>
          <kbd>d</kbd> the drive
        </span>
        <span>
          <kbd>b</kbd> back to the bench
        </span>
      </Keys>
    </>
  );
}

const isWriting = (s: SweepSummary) => !["spot_sweep", "whole_sweep", "verifying"].includes(s.kind);

/** What a rework wrote, and the counters before and after it. */
function Written({ rework }: { rework: Rework }) {
  const rows = rework.rows.filter((r) => r.matters && (r.before !== undefined || r.now !== undefined) && (r.before !== 0 || r.now !== 0));
  const says = (v: number | undefined) => (v === undefined ? "not available" : number(v));
  return (
    <Places>
      <Section>
        <header>
          <h2>Before and after</h2>
          <p>
            released for {rework.release.scope} by {rework.release.owner}, recorded by {rework.release.by}
          </p>
        </header>
        {rework.words.map(({ words }) => (
          <p key={words}>{words}</p>
        ))}
        {rows.length > 0 && (
          <Scroll>
            <Table>
              <thead>
                <tr>
                  <th>signal</th>
                  <th className="num">before</th>
                  <th className="num">after</th>
                  <th>what it says</th>
                </tr>
              </thead>
              <tbody>
                {rows.map((r) => (
                  <tr key={r.signal}>
                    <td>{r.words}</td>
                    <td className="num">{says(r.before)}</td>
                    <td className="num">{says(r.now)}</td>
                    <td className="soft">{r.says}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Scroll>
        )}
      </Section>
    </Places>
  );
}

/** Every place in which a sweep and an earlier one differ, or that both found. */
function Changes({
  all,
  earlier,
  sector,
  bytes,
}: {
  all: { lba: number; sectors: number; change: string; before: string; after: string }[];
  earlier: number;
  sector: number;
  bytes: number;
}) {
  return (
    <Places>
      <Section>
        <header>
          <h2>Compared with run {earlier}</h2>
          <p>{all.length === 0 ? "neither found anything" : `${number(all.length)} places that either found`}</p>
        </header>
        {all.length > 0 && (
          <Scroll>
            <Table>
              <thead>
                <tr>
                  <th>where</th>
                  <th className="num">LBA</th>
                  <th>change</th>
                  <th>then</th>
                  <th>now</th>
                </tr>
              </thead>
              <tbody>
                {all.slice(0, 200).map((d) => (
                  <tr key={`${d.lba}${d.after}`}>
                    <td>{spot(d.lba * sector, bytes, 1)}</td>
                    <td className="num">{number(d.lba)}</td>
                    <td>{d.change}</td>
                    <td className="soft">{d.before}</td>
                    <td className="soft">{d.after}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          </Scroll>
        )}
      </Section>
    </Places>
  );
}

function Identity({ run, drive }: { run: Run; drive?: Drive }) {
  const facts: [string, string][] = [["Run", `${run.id}, ${run.title.toLowerCase()}, by ${run.by}`]];
  if (drive) {
    const how = drive.rotation_rate ? `${number(drive.rotation_rate)}/min` : drive.medium === "flash" ? "flash" : undefined;
    facts.unshift(["Drive", [drive.model, drive.bytes && size(drive.bytes), how].filter(Boolean).join(" · ")]);
    if (drive.intake?.customer) facts.push([`Ticket ${drive.intake.ticket ?? drive.intake.id}`, drive.intake.customer]);
  }
  facts.push(["Bay", bayShort(run.bay)]);
  return (
    <Ident aria-label="Identity">
      <Link className="serial" to={`/drives/${encodeURIComponent(run.serial)}`}>
        <Serial serial={run.serial} />
      </Link>
      <dl>
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd title={value}>{value}</dd>
          </div>
        ))}
      </dl>
      {drive && (
        <p className="verdict">
          <VerdictWord grade={drive.grade} />
          {run.state !== "done" && <small>so far</small>}
        </p>
      )}
    </Ident>
  );
}
