import { Menu, MenuItem, MenuTrigger, Popover } from "react-aria-components";
import styled from "styled-components";
import type { CheckKind, Release, ReworkKind } from "../data/types";
import { color, text } from "../theme/tokens";
import { Button } from "./basics";

const List = styled(Menu)`
  background: ${color.sheet}; border: 1px solid ${color.edge}; border-top: 2px solid ${color.ink}; width: 320px; outline: none;
  max-height: inherit; overflow: auto;
`;
const Item = styled(MenuItem)`
  display: grid; align-content: center; padding: 8px 12px; min-height: 44px; cursor: pointer; outline: none;
  border-bottom: 1px solid ${color.rule};
  & small { ${text.small} color: ${color.ink3}; }
  &[data-selected] > span { font-weight: 600; }
  &[data-disabled] { color: ${color.ink3}; cursor: default; }
  &[data-focused] { background: ${color.well}; outline: 2px solid ${color.accent}; outline-offset: -2px; }
`;

/** What the checks are called that a console starts. */
export const checkNames = { quick: "Quick check", extended: "Extended check", spot: "Spot sweep", whole: "Whole sweep" };

const kinds: { kind: keyof typeof checkNames; about: string }[] = [
  { kind: "quick", about: "Minutes: its short self-test, a sample of the surface. Key c" },
  { kind: "extended", about: "Hours: its extended self-test, every sector read and timed" },
  { kind: "spot", about: "Seconds: a sample of the surface" },
  { kind: "whole", about: "Hours: every sector read and timed" },
];

/** The checks there are, each with what it takes. */
export function CheckMenu({ start }: { start: (kind: CheckKind) => void }) {
  return (
    <MenuTrigger>
      <Button aria-keyshortcuts="c">Check …</Button>
      <Popover placement="bottom end">
        <List aria-label="Checks" onAction={(key) => start(key as CheckKind)}>
          {kinds.map((k) => (
            <Item key={k.kind} id={k.kind} textValue={`${checkNames[k.kind]} ${k.about}`}>
              <b>{checkNames[k.kind]}</b>
              <small>{k.about}</small>
            </Item>
          ))}
        </List>
      </Popover>
    </MenuTrigger>
  );
}

const writes: { kind: ReworkKind; name: string; about: string }[] = [
  { kind: "mend", name: "Mend", about: "Minutes: writes the sectors that cannot be read" },
  { kind: "renew", name: "Renew", about: "Hours: writes all data back in place" },
  { kind: "overwrite", name: "Overwrite", about: "Hours: writes a pattern everywhere, and reads it back" },
];

/** The reworks there are; those the owner's release does not cover cannot be chosen. */
export function ReworkMenu({ release, start, record }: { release?: Release; start: (kind: ReworkKind) => void; record: () => void }) {
  const covered = writes.findIndex((w) => w.kind === release?.scope);
  const disabled = writes.filter((_, i) => i > covered).map((w) => w.kind);
  return (
    <MenuTrigger>
      <Button>Rework …</Button>
      <Popover placement="bottom end">
        <List aria-label="Reworks" disabledKeys={disabled} onAction={(key) => (key === "release" ? record() : start(key as ReworkKind))}>
          <Item id="release" textValue="Release by the owner">
            <b>Release by the owner …</b>
            <small>{release ? `${release.scope}, by ${release.owner}` : "None recorded for this intake"}</small>
          </Item>
          {writes.map((w) => (
            <Item key={w.kind} id={w.kind} textValue={w.name}>
              <b>{w.name}</b>
              <small>{disabled.includes(w.kind) ? "Not released by the owner" : w.about}</small>
            </Item>
          ))}
        </List>
      </Popover>
    </MenuTrigger>
  );
}

/** One of a few answers, in a menu that says which it is. */
export function OneOf({
  label,
  options,
  value,
  choose,
}: {
  label: string;
  options: readonly { id: string; name: string; about?: string }[];
  value: string;
  choose: (id: string) => void;
}) {
  return (
    <MenuTrigger>
      <Button>
        {label}: {options.find((o) => o.id === value)?.name ?? options[0]?.name} …
      </Button>
      <Popover placement="bottom start">
        <List
          aria-label={label}
          selectionMode="single"
          disallowEmptySelection
          selectedKeys={[value]}
          onAction={(key) => choose(String(key))}
        >
          {options.map((o) => (
            <Item key={o.id} id={o.id} textValue={`${o.name} ${o.about ?? ""}`}>
              <span>{o.name}</span>
              {o.about && <small>{o.about}</small>}
            </Item>
          ))}
        </List>
      </Popover>
    </MenuTrigger>
  );
}

/** Chooses an earlier sweep to lay over; none takes it away. */
export function OverMenu({
  sweeps,
  chosen,
  choose,
}: {
  sweeps: { run: number; name: string; when: string }[];
  chosen?: number;
  choose: (run?: number) => void;
}) {
  return (
    <MenuTrigger>
      <Button>{chosen ? `Over run ${chosen} …` : "Lay over …"}</Button>
      <Popover placement="bottom start">
        <List aria-label="Earlier sweeps" onAction={(key) => choose(key === "none" ? undefined : Number(key))}>
          <Item id="none" textValue="none">
            <b>None</b>
            <small>this sweep alone</small>
          </Item>
          {sweeps.map((s) => (
            <Item key={s.run} id={s.run} textValue={`run ${s.run}`}>
              <b>
                Run {s.run}, {s.name}
              </b>
              <small>{s.when}</small>
            </Item>
          ))}
        </List>
      </Popover>
    </MenuTrigger>
  );
}
