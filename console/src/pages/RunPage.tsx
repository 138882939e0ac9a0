import { useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import styled from "styled-components";
import { useLive } from "../data/live";
import { useAlertOrders, useOrders } from "../data/orders";
import { usePerson } from "../data/person";
import { useDifferences, useDrive, useEarlierSweep, useRework, useRun, useSweep, useSweeps } from "../data/queries";
import type { CheckKind, Drive, Run, Step, SweepStanding, SweepSummary } from "../data/types";
import { Button, Keys, State, Wrong } from "../parts/basics";
import { checkNames, OverMenu } from "../parts/CheckMenu";
import { emptyCells, fill } from "../parts/cells";
import { DriveHeader, kindOf, ticketOf } from "../parts/DriveHeader";
import { bayShort, clockOf, left, momentOf } from "../parts/format";
import { VerdictWord } from "../parts/marks";
import { Ribbon } from "../parts/Ribbon";
import { Changes, placesOf, StepList, SweepPlaces, Written } from "../parts/RunParts";
import { hidden } from "../theme/Global";
import { color, medium, px, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Head = styled.section`
  display: grid; grid-template-columns: minmax(0, 1fr) auto auto; gap: 24px; padding: 16px 24px 0; align-items: start;
  & .left { text-align: right; white-space: nowrap; min-width: 168px; }
  & .left b { display: block; font-size: ${px.display}; line-height: 36px; }
  & .left span { ${text.small} color: ${color.ink2}; }
  & .do { display: flex; gap: 8px; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); & .left { text-align: left; } }
`;
const Came = styled.section`
  display: grid; grid-template-columns: repeat(auto-fit, minmax(min(100%, 320px), 1fr)); gap: 16px 24px; padding: 16px 24px 0;
  & h2 { ${text.small} color: ${color.ink2}; }
  & li { ${text.body} }
  & ol li::before { content: none; }
  & button { margin-top: 8px; }
`;
const Body = styled.div`padding: 12px 24px 0; min-height: 620px;`;
const Over = styled.div`
  display: flex; gap: 8px 12px; align-items: center; flex-wrap: wrap; padding: 8px 0 0 88px; ${text.small} color: ${color.ink2};
  @media (max-width: 700px) { padding-left: 0; }
`;
const Words = styled.ul`
  padding: 8px 0 0 88px; ${text.body} & li::before { content: "\\2013\\00A0"; color: ${color.ink3}; }
  @media (max-width: 700px) { padding-left: 0; }
`;

/** The sweep's step, as it stands: of several, the one that goes on or came last. */
const sweepStep = (run: Run): Step | undefined =>
  run.steps.findLast((s) => s.sweep && s.state !== "pending") ?? run.steps.findLast((s) => s.sweep);

function label(run: Run, s: SweepStanding): string {
  const found = s.words.length > 0 ? s.words.map((w) => w.words).join(" ") : "Nothing found so far.";
  return `Ribbon of run ${run.id}, ${Math.floor(100 * s.share)} percent swept. ${found} The table below holds the same facts.`;
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
  const sweep = useSweep(first);
  const open = first.state !== "done";
  const live = useLive(first.id, open, sweep.data);
  const run = open && live.run && live.run.state !== "done" ? live.run : first;
  const drive = useDrive(run.serial);
  const person = usePerson();
  const orders = useOrders(person.name);
  const told = useAlertOrders(usePerson().name);
  const { asPerson } = useActions();
  const go = useNavigate();
  useShortcuts({ b: () => go("/"), d: () => go(`/drives/${run.serial}`) });

  const step = sweepStep(run);
  const standing = step?.sweep ?? sweep.data?.standing;
  const going = open && step?.state === "begun";
  const ended = !!sweep.data?.ended;
  const others = useSweeps(run.serial).data?.filter((s) => s.run !== run.id && s.run < run.id && !isWriting(s)) ?? [];
  const [earlier, layOver] = useState<number>();
  const under = useEarlierSweep(earlier).data;
  const differences = useDifferences(run.id, ended ? earlier : undefined).data;
  const earlierCells = useMemo(() => {
    if (!under) return undefined;
    const cells = emptyCells(under.cells);
    fill(cells, under.segments);
    return cells;
  }, [under]);
  const rework = useRework(run).data;
  const rows = standing ? placesOf(sweep.data, live.cells, standing, ended) : [];
  return (
    <>
      <title>{`Run ${run.id} · Hylostat`}</title>
      <h1 style={hidden}>
        {run.title} of {run.serial}, run {run.id}
      </h1>
      <DriveHeader serial={run.serial} to={`/drives/${encodeURIComponent(run.serial)}`} facts={factsOf(run, drive.data)}>
        {drive.data && (
          <p className="verdict">
            <VerdictWord grade={drive.data.grade} />
            {run.state !== "done" && <small>so far</small>}
          </p>
        )}
      </DriveHeader>
      <Head aria-label="Steps">
        <StepList steps={run.steps} />
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
            <Button onPress={() => asPerson(() => told.await.mutate({ run: run.id, on: !run.awaited }))}>
              {run.awaited ? "Tell nobody" : "Tell me at its end"}
            </Button>
            <Button onPress={() => asPerson(() => orders.stop.mutate(run.id))}>Stop</Button>
          </div>
        )}
      </Head>
      {!open && (
        <CameTo
          run={run}
          act={(kind) => asPerson(() => orders.check.mutate({ serial: run.serial, kind }, { onSuccess: (r) => go(`/runs/${r.id}`) }))}
        />
      )}
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
      {standing && <SweepPlaces rows={rows} ended={ended} />}
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

/** What a run that is done found, and what is next: with a button where that is a check. */
function CameTo({ run, act }: { run: Run; act: (kind: CheckKind) => void }) {
  const go = useNavigate();
  if (!run.found && !run.next) return null;
  return (
    <Came aria-label="What it came to">
      {run.found && (
        <div>
          <h2>Found</h2>
          <ul>
            {run.found.map(({ words }) => (
              <li key={words}>{words}</li>
            ))}
          </ul>
        </div>
      )}
      {run.next && (
        <div>
          <h2>Next</h2>
          <ol>
            {run.next.map(({ words }) => (
              <li key={words}>{words}</li>
            ))}
          </ol>
          {run.next_check ? (
            <Button $filled onPress={() => act(run.next_check as CheckKind)}>
              {checkNames[run.next_check]}
            </Button>
          ) : (
            <Button onPress={() => go(`/drives/${encodeURIComponent(run.serial)}`)}>Open the drive</Button>
          )}
        </div>
      )}
    </Came>
  );
}

const isWriting = (s: SweepSummary) => !["spot_sweep", "whole_sweep", "verifying"].includes(s.kind);

function factsOf(run: Run, drive?: Drive): [string, string][] {
  const of: [string, string] = ["Run", `${run.id}, ${run.title.toLowerCase()}, by ${run.by}`];
  const bay: [string, string] = ["Bay", bayShort(run.bay)];
  return drive ? [["Drive", kindOf(drive)], of, ...(drive.intake?.customer ? ticketOf(drive) : []), bay] : [of, bay];
}
