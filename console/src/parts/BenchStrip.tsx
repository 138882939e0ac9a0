import styled from "styled-components";
import type { Bay, Queue } from "../data/types";
import { color } from "../theme/tokens";
import { actions } from "./BayCard";
import { bayWords, capital, count, number } from "./format";

const Strip = styled.section`
  min-height: 44px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: center; gap: 4px 24px;
  color: ${color.ink2}; flex-wrap: wrap;
  & b { color: ${color.ink}; } & .push { margin-left: auto; }
`;

/** One bench above its cards: how many of what, its plan, and what to do first. The title stands there when there is another bench. */
export function BenchStrip({ title, bays, queue }: { title?: string; bays: Bay[]; queue?: Queue }) {
  const awaited = bays.filter((b) => actions[b.action].awaited);
  const first = awaited.find((b) => b.drive?.grade === "replace") ?? awaited[0];
  const next = queue?.check && queue.words[0]?.words;
  return (
    <Strip aria-label={title ? `Summary of ${title}` : "Summary"}>
      {title && <h2>{title}</h2>}
      <span>
        <b>{count(bays.length, "bay", "bays")}</b> · {count(bays.filter((b) => b.drive).length, "drive answers", "drives answer")}
      </span>
      <span>
        {count(bays.filter((b) => b.run).length, "check running", "checks running")}
        {!!queue?.waiting && `, ${number(queue.waiting)} ${queue.waiting === 1 ? "waits for its" : "wait for their"} turn`}
      </span>
      {queue?.check && (
        <span>
          Plan: {queue.check === "whole" ? "whole sweep" : `${queue.check} check`} of every drive
          {queue.lot !== undefined && ` of lot ${queue.lot}`}, {number(queue.done)} done
        </span>
      )}
      <span>{awaited.length === 0 ? "nothing waits for you" : count(awaited.length, "bay waits for you", "bays wait for you")}</span>
      {next ? (
        <b className="push">{next}</b>
      ) : (
        first && (
          <b className="push">
            {capital(bayWords(first.name))}: {first.next.words}
          </b>
        )
      )}
    </Strip>
  );
}
