import type { ReactNode } from "react";
import { Button as AriaButton } from "react-aria-components";
import styled, { css } from "styled-components";
import { ProblemError } from "../data/client";
import { color, px, text, type } from "../theme/tokens";
import { parts } from "./format";

/** An action. `filled` only where a person is awaited. */
export const Button = styled(AriaButton)<{ $filled?: boolean }>`
  display: inline-flex;
  align-items: center;
  justify-content: center;
  min-height: 44px;
  min-width: 104px;
  padding: 0 12px;
  font-weight: 600;
  white-space: nowrap;
  cursor: pointer;
  border: 1px solid ${color.edge};
  background: none;
  color: ${color.ink};
  ${({ $filled }) => $filled && css`border-color: ${color.accent}; background: ${color.accent}; color: ${color.on};`}
  &[data-hovered] { outline: 2px solid ${color.accent}; outline-offset: 2px; }
  &[data-disabled] { opacity: 0.6; cursor: default; }
`;

/** A link that looks like an action: it opens or saves a file. */
export const LinkButton = styled.a`
  display: inline-flex; align-items: center; justify-content: center; min-height: 44px; min-width: 88px; padding: 0 12px;
  font-weight: 600; white-space: nowrap;
  border: 1px solid ${color.edge}; text-decoration: none; color: ${color.ink};
  &:hover { outline: 2px solid ${color.accent}; outline-offset: 2px; color: ${color.ink}; }
`;

export const Small = styled.small`font: 400 ${type.small} inherit; ${text.small} color: ${color.ink3};`;

const SerialBox = styled.span`
  display: inline-flex; align-items: baseline; gap: 8px; white-space: nowrap;
  & small { ${text.small} color: ${color.ink3}; min-width: 36px; }
  & b { ${text.display} letter-spacing: 0.02em; }
`;

/** A serial, its ending large. */
export function Serial({ serial, before }: { serial: string; before?: string }) {
  const [start, ending] = parts(serial);
  return (
    <SerialBox>
      <small>{before ?? start}</small>
      <b>{ending}</b>
    </SerialBox>
  );
}

const BarBox = styled.div`height: 8px; border: 1px solid ${color.edge}; background: ${color.well};`;
const BarInk = styled.i`display: block; height: 6px; background: ${color.ink}; transition: width 200ms linear;`;

/** Progress of a run, in per cent. */
export function Bar({ percent, label }: { percent: number; label: string }) {
  return (
    <BarBox role="progressbar" aria-label={label} aria-valuenow={percent} aria-valuemin={0} aria-valuemax={100}>
      <BarInk style={{ width: `${percent}%` }} />
    </BarBox>
  );
}

const TapeBox = styled.div<{ $ink: string }>`
  height: 4px; background: color-mix(in srgb, ${({ $ink }) => $ink} 28%, transparent); position: relative;
  border-right: 2px solid ${color.ink};
  & i { display: block; height: 4px; background: ${({ $ink }) => $ink}; }
`;

/** How much of an allowance is used; the words stand beside it. */
export function Tape({ share, ink }: { share: number; ink: string }) {
  return (
    <TapeBox $ink={ink} aria-hidden="true">
      <i style={{ width: `${Math.min(100, Math.max(0, share * 100))}%` }} />
    </TapeBox>
  );
}

/** A part of a page under a ruled line. */
export const Section = styled.section`
  border-top: 2px solid ${color.ink}; padding-top: 4px; min-width: 0;
  & > header { display: flex; align-items: baseline; gap: 16px; min-height: 26px; flex-wrap: wrap; }
  & > header h2 { ${text.large} }
  & > header p { color: ${color.ink3}; ${text.small} }
`;

/** A ledger's table. */
export const Table = styled.table`
  border-collapse: collapse; width: 100%;
  & th { font-weight: 400; ${text.small} color: ${color.ink3}; text-align: left; white-space: nowrap; vertical-align: bottom;
    border-bottom: 1px solid ${color.edge}; }
  & td, & th { padding: 4px 16px 4px 0; }
  & td { line-height: 22px; vertical-align: baseline; border-bottom: 1px solid ${color.rule}; }
  & thead td { border-bottom-color: ${color.edge}; }
  & td:last-child, & th:last-child { padding-right: 4px; }
  & .num { text-align: right; }
  & .soft { color: ${color.ink3}; }
  & .small { font-size: ${px.small}; } & .whole { white-space: nowrap; } & .strong { font-weight: 600; }
`;

/** The fields of a dialog, one below the other. */
export const Form = styled.form`display: grid; gap: 16px;`;

/** Two fields beside each other. */
export const Pair = styled.div`display: grid; grid-template-columns: 1fr 1fr; gap: 12px;`;

/** A paragraph with room above and below. */
export const Aside = styled.p`padding: 8px 0;`;

export const Scroll = styled.div`overflow-x: auto;`;

const Dashed = styled.span`
  color: ${color.ink3};
  &::before { content: ""; display: inline-block; width: 16px; border-top: 1px dashed ${color.edge}; vertical-align: middle;
    margin-right: 8px; }
`;

/** A value that is not there, with the reason: never a zero. */
export function NotAvailable({ reason }: { reason?: string }) {
  return <Dashed>not available{reason ? `: ${reason}` : ""}</Dashed>;
}

const StateBox = styled.div`
  margin: 40px 24px; padding: 16px; border-top: 2px solid ${color.ink}; max-width: 720px; display: grid; gap: 8px; justify-items: start;
  & h1 { ${text.title} }
  & p { color: ${color.ink2}; }
`;

/** What a page shows instead of its content: loading, empty, or wrong. */
export function State({ title, children, action }: { title: string; children?: ReactNode; action?: ReactNode }) {
  return (
    <StateBox>
      <h1>{title}</h1>
      {children && <p>{children}</p>}
      {action}
    </StateBox>
  );
}

/** An error: what happened, and one thing to do. */
export function Wrong({ error, retry }: { error: unknown; retry: () => void }) {
  const problem = error instanceof ProblemError ? error.problem : undefined;
  return (
    <State title={problem?.title ?? "The service does not answer"} action={<Button onPress={retry}>Try again</Button>}>
      {problem ? error instanceof Error && error.message : "Look whether it runs. Checks on the bench go on without the console."}
    </State>
  );
}

/** What keys do on a page, at its foot. */
export const Keys = styled.footer`
  padding: 12px 24px; display: flex; flex-wrap: wrap; gap: 4px 24px; color: ${color.ink3}; ${text.small}
  & kbd { font: inherit; font-weight: 600; border: 1px solid ${color.edge}; padding: 0 5px; color: ${color.ink2}; }
`;
