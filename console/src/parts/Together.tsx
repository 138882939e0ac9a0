import styled from "styled-components";
import { apiPath } from "../data/base";
import { useDesk } from "../data/orders";
import { usePerson } from "../data/person";
import type { CheckKind } from "../data/types";
import { color } from "../theme/tokens";
import { Button, LinkButton } from "./basics";
import { checkNames } from "./CheckMenu";
import { number } from "./format";

const Chosen = styled.section`
  border-bottom: 1px solid ${color.rule}; background: ${color.well}; padding: 8px 24px; display: flex; flex-wrap: wrap;
  gap: 8px 12px; align-items: center;
  & b { margin-right: 12px; } & p { color: ${color.ink2}; flex-basis: 100%; }
`;

/** Of how many drives labels are asked for at once: their serials stand in an address. */
const mostLabels = 200;

const checks = ["quick", "extended", "whole"] as const;

/** What can be done with several drives at once; `check` where they are in bays. */
export function Together({
  chosen,
  none,
  asPerson,
  check,
}: {
  chosen: readonly string[];
  none: () => void;
  asPerson: (then: () => void) => void;
  check?: (kind: CheckKind) => void;
}) {
  const desk = useDesk(usePerson().name);
  const { data: done, isPending, error } = desk.signTogether;
  const labels = new URLSearchParams([["stock", "62x29"], ...chosen.slice(0, mostLabels).map((serial) => ["drive", serial])]);
  return (
    <Chosen aria-label="The chosen drives">
      <b>{number(chosen.length)} chosen</b>
      {check &&
        checks.map((kind) => (
          <Button key={kind} isDisabled={chosen.length === 0} onPress={() => check(kind)}>
            {checkNames[kind]}
          </Button>
        ))}
      <Button isDisabled={isPending || chosen.length === 0} onPress={() => asPerson(() => desk.signTogether.mutate([...chosen]))}>
        Sign the healthy
      </Button>
      {chosen.length > 0 && (
        <LinkButton href={apiPath(`/labels?${labels}`)} target="_blank">
          {chosen.length > mostLabels ? `Labels of the first ${mostLabels}` : "Labels"}
        </LinkButton>
      )}
      <Button onPress={none}>Choose none</Button>
      {error && <p role="alert">{error.message}</p>}
      {done && (
        <p role="status">
          {number(done.signed.length)} signed.
          {done.left.length > 0 &&
            ` Left: ${done.left
              .slice(0, 3)
              .map((l) => `${l.serial}, ${l.why}`)
              .join("; ")}`}
          {done.left.length > 3 && `; and ${number(done.left.length - 3)} more`}
        </p>
      )}
    </Chosen>
  );
}
