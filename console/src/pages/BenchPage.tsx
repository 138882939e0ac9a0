import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { useOrders } from "../data/orders";
import { usePerson } from "../data/person";
import { useAlerts, useBays, useQueue, useService } from "../data/queries";
import type { Alert, Bay, Bench } from "../data/types";
import { BayCard, FarBay } from "../parts/BayCard";
import { BenchStrip } from "../parts/BenchStrip";
import { Keys, State, Wrong } from "../parts/basics";
import { capital } from "../parts/format";
import { Together } from "../parts/Together";
import { hidden } from "../theme/Global";
import { color, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Grid = styled.div`
  display: grid; grid-template-columns: repeat(auto-fill, minmax(min(400px, 100%), 1fr)); gap: 12px 16px; padding: 16px 24px 0;
`;
const Far = styled.div`
  display: grid; grid-template-columns: repeat(auto-fill, minmax(min(400px, 100%), 1fr)); gap: 0 16px; padding: 8px 24px;
`;
const FarAlerts = styled.p`padding: 8px 24px; ${text.display} border-bottom: 2px solid ${color.ink}; & b { font-size: inherit; }`;
const FarTitle = styled.h2`padding: 16px 24px 0; ${text.display}`;

/** One bench: its strip and its cards. */
function BenchSection({
  bench,
  titled,
  bays,
  act,
  chosen,
  choose,
  alertsOf,
}: {
  bench: Bench;
  titled: boolean;
  bays: Bay[];
  act: (bay: Bay) => void;
  chosen: ReadonlySet<string>;
  choose: (bay: Bay) => void;
  alertsOf: (bay: Bay) => Alert[];
}) {
  const queue = useQueue(bench.name).data;
  return (
    <>
      <BenchStrip title={titled ? bench.title : undefined} bays={bays} queue={queue} />
      <Grid>
        {bays.map((b) => (
          <BayCard key={b.name} bay={b} act={act} chosen={chosen.has(b.name)} choose={choose} alerts={alertsOf(b)} />
        ))}
      </Grid>
    </>
  );
}

/** The benches: every bay, what is going on, and the one thing each waits for. */
export default function BenchPage() {
  const bays = useBays();
  const go = useNavigate();
  const orders = useOrders(usePerson().name);
  const { asPerson, check, checkAll } = useActions();
  const benches = useService().data?.benches;
  const unsettled = useAlerts().data?.filter((a) => a.state !== "settled") ?? [];
  const open = unsettled.filter((a) => a.state === "open");
  const alertsOf = (b: Bay) => unsettled.filter((a) => a.serial !== undefined && a.serial === b.drive?.serial);
  const [search] = useSearchParams();
  const [far, setFar] = useState(search.get("view") === "far");
  const [choosing, setChoosing] = useState(false); // by key: a number chooses a bay, and does not open it
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const choose = (bay: Bay) =>
    setChosen((were) => {
      const now = new Set(were);
      if (!now.delete(bay.name)) now.add(bay.name);
      return now;
    });
  const none = () => {
    setChosen(new Set());
    setChoosing(false);
  };

  const openDrive = (bay: Bay) => bay.drive && go(`/drives/${encodeURIComponent(bay.drive.serial)}`);
  const act = (bay: Bay) => {
    switch (bay.action) {
      case "drive_in":
      case "try_again":
        orders.attempt.mutate(bay.name);
        return;
      case "record_copy":
        asPerson(() => orders.copied.mutate(bay.name));
        return;
      case "check":
        if (bay.drive) check(bay.drive.serial, bay.check);
        return;
      default:
        openDrive(bay);
    }
  };
  useShortcuts(
    { w: () => setFar((f) => !f), s: () => (choosing ? none() : setChoosing(true)), Escape: none },
    (n, before) => {
      const bench = benches?.[before.length];
      const bay = bays.data?.find((b) => b.bench === bench?.name && b.number === n);
      if (!bay) return;
      if (!choosing) openDrive(bay);
      else if (bay.drive) choose(bay);
    },
    (scanned) => go(`/drives/${encodeURIComponent(scanned)}`),
  );

  if (bays.isError && !bays.data) return <Wrong error={bays.error} retry={() => bays.refetch()} />;
  if (!bays.data || !benches) return <State title="Looking at the bench" />;
  if (bays.data.length === 0) return <State title="No bay yet">A bay opens by itself as soon as a drive is attached to this bench.</State>;
  const sections = benches
    .map((bench) => ({ bench, bays: bays.data.filter((b) => b.bench === bench.name && !b.hidden) }))
    .filter((s) => s.bays.length > 0);
  const titled = sections.length > 1;
  if (far)
    return (
      <>
        <h1 style={hidden}>Bench, from afar</h1>
        {open.length > 0 && (
          <FarAlerts>
            <b>{open.length}</b> open:{" "}
            {open
              .slice(0, 4)
              .map((a) => (a.serial ? a.serial.slice(-5) : capital(a.of.words.replace(/^the /, ""))))
              .join(", ")}
            {open.length > 4 && " …"}
          </FarAlerts>
        )}
        {sections.map(({ bench, bays }) => (
          <section key={bench.name} aria-label={bench.title}>
            {titled && <FarTitle>{bench.title}</FarTitle>}
            <Far>
              {bays.map((b) => (
                <FarBay key={b.name} bay={b} alerts={alertsOf(b)} />
              ))}
            </Far>
          </section>
        ))}
      </>
    );
  return (
    <>
      <h1 style={hidden}>Bench</h1>
      {(choosing || chosen.size > 0) && (
        <Together
          asPerson={asPerson}
          chosen={bays.data.flatMap((b) => (chosen.has(b.name) && b.drive ? [b.drive.serial] : []))}
          none={none}
          check={(kind) => {
            checkAll(
              bays.data.flatMap((b) => (chosen.has(b.name) && b.drive ? [b.drive.serial] : [])),
              kind,
            );
            none();
          }}
        />
      )}
      {sections.map(({ bench, bays }) => (
        <BenchSection
          key={bench.name}
          bench={bench}
          titled={titled}
          bays={bays}
          act={act}
          chosen={chosen}
          choose={choose}
          alertsOf={alertsOf}
        />
      ))}
      <Keys>
        <span>
          <kbd>1</kbd>–<kbd>{sections[0]?.bays.length}</kbd> open a bay
          {titled && (
            <>
              , <kbd>.1</kbd> one of {sections[1]?.bench.title}
            </>
          )}
        </span>
        <span>
          <kbd>s</kbd> or a touch on its number: choose several
        </span>
        <span>
          <kbd>w</kbd> step back
        </span>
        <span>
          <kbd>u</kbd> undo a start, for 5 s
        </span>
        <span>scan a serial to open its drive</span>
        <Link to="/bays">Number, name and order the bays</Link>
      </Keys>
    </>
  );
}
