import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { usePerson } from "../data/person";
import { useBays, useOrders, useQueue } from "../data/queries";
import type { Bay } from "../data/types";
import { actions, BayCard, FarBay } from "../parts/BayCard";
import { Keys, State, Wrong } from "../parts/basics";
import { number } from "../parts/format";
import { hidden } from "../theme/Global";
import { color } from "../theme/tokens";
import { useActions } from "./Shell";
import { useShortcuts } from "./shortcuts";

const Strip = styled.section`
  min-height: 44px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: center; gap: 4px 24px; color: ${color.ink2}; flex-wrap: wrap;
  & b { color: ${color.ink}; } & .push { margin-left: auto; }
`;
const Grid = styled.div`display: grid; grid-template-columns: repeat(auto-fill, minmax(min(400px, 100%), 1fr)); gap: 12px 16px; padding: 16px 24px 0;`;
const Far = styled.div`display: grid; grid-template-columns: repeat(auto-fill, minmax(min(400px, 100%), 1fr)); gap: 0 16px; padding: 8px 24px;`;
const count = (n: number, one: string, many: string) => `${n} ${n === 1 ? one : many}`;

/** What the strip above the cards says: how many of what, and what to do first. */
function summary(bays: Bay[]) {
  const running = bays.filter((b) => b.run).length;
  const awaited = bays.filter((b) => actions[b.action].awaited);
  const first = awaited.find((b) => b.drive?.grade === "replace") ?? awaited[0];
  return { running, awaited: awaited.length, first };
}

/** The bench: every bay, what is going on, and the one thing each waits for. */
export default function BenchPage() {
  const bays = useBays();
  const go = useNavigate();
  const orders = useOrders(usePerson().name);
  const { asPerson, check } = useActions();
  const queue = useQueue().data;
  const [search] = useSearchParams();
  const [far, setFar] = useState(search.get("view") === "far");

  const open = (bay: Bay) => bay.drive && go(`/drives/${encodeURIComponent(bay.drive.serial)}`);
  const act = (bay: Bay) => {
    switch (bay.action) {
      case "drive_in":
      case "try_again":
        orders.attempt.mutate(bay.number);
        return;
      case "record_copy":
        asPerson(() => orders.copied.mutate(bay.number));
        return;
      case "check":
        if (bay.drive) check(bay.drive.serial);
        return;
      default:
        open(bay);
    }
  };
  useShortcuts(
    { w: () => setFar((f) => !f) },
    (n) => {
      const bay = bays.data?.find((b) => b.number === n);
      if (bay) open(bay);
    },
    (scanned) => go(`/drives/${encodeURIComponent(scanned)}`),
  );

  if (bays.isError && !bays.data) return <Wrong error={bays.error} retry={() => bays.refetch()} />;
  if (!bays.data) return <State title="Looking at the bench" />;
  if (bays.data.length === 0) return <State title="No bay yet">A bay opens by itself as soon as a drive is attached to this bench.</State>;
  if (far)
    return (
      <Far>
        <h1 style={hidden}>Bench, from afar</h1>
        {bays.data.map((b) => (
          <FarBay key={b.number} bay={b} />
        ))}
      </Far>
    );
  const { running, awaited, first } = summary(bays.data);
  return (
    <>
      <h1 style={hidden}>Bench</h1>
      <Strip aria-label="Summary">
        <span>
          <b>{count(bays.data.length, "bay", "bays")}</b> ·{" "}
          {count(bays.data.filter((b) => b.drive).length, "drive answers", "drives answer")}
        </span>
        <span>
          {count(running, "check running", "checks running")}
          {!!queue?.waiting && `, ${number(queue.waiting)} wait for their turn`}
        </span>
        {queue?.check && (
          <span>
            Plan: {queue.check === "whole" ? "whole sweep" : `${queue.check} check`} of every drive
            {queue.lot !== undefined && ` of lot ${queue.lot}`}, {number(queue.done)} done
          </span>
        )}
        <span>{awaited === 0 ? "nothing waits for you" : count(awaited, "bay waits for you", "bays wait for you")}</span>
        {queue?.check && queue.words[0] ? (
          <b className="push">{queue.words[0]}</b>
        ) : (
          first && (
            <b className="push">
              Bay {first.number}: {first.next}
            </b>
          )
        )}
      </Strip>
      <Grid>
        {bays.data.map((b) => (
          <BayCard key={b.number} bay={b} act={act} />
        ))}
      </Grid>
      <Keys>
        <span>
          <kbd>1</kbd>–<kbd>{bays.data.length}</kbd> open a bay
        </span>
        <span>
          <kbd>w</kbd> step back
        </span>
        <span>
          <kbd>u</kbd> undo a start, for 5 s
        </span>
        <span>scan a serial to open its drive</span>
      </Keys>
    </>
  );
}
