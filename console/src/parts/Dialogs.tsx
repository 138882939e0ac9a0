import { type ReactNode, useState } from "react";
import { Dialog, Heading, Input, Label, Modal, ModalOverlay, Radio, RadioGroup, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import type { Grade, ReworkKind, ReworkReady } from "../data/types";
import { color, text } from "../theme/tokens";
import { Button, Form } from "./basics";
import { bayWords, left, number } from "./format";
import { VerdictWord } from "./marks";

const Overlay = styled(ModalOverlay)`
  position: fixed; inset: 0; background: rgb(0 0 0 / 40%); display: grid; place-items: center;
  z-index: 10; padding: 16px;
`;
const Box = styled(Modal)`
  background: ${color.sheet}; border: 1px solid ${color.ink}; border-top-width: 2px; width: min(488px, 100%); max-height: 100%;
  overflow: auto;
`;
const Inside = styled(Dialog)`
  padding: 16px; display: grid; gap: 16px; outline: none;
  & h2 { ${text.title} }
  & .react-aria-Label { display: block; ${text.small} color: ${color.ink2}; margin-bottom: 4px; }
  & input, & textarea { width: 100%; min-height: 44px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper}; }
  & footer { display: flex; gap: 12px; justify-content: flex-end; }
`;
/** One answer of several, in a dialog. */
export const Choice = styled(Radio)`
  display: flex; align-items: center; gap: 12px; min-height: 44px; padding: 0 12px; border: 1px solid ${color.rule};
  cursor: pointer; margin-top: -1px;
  &::before { content: ""; flex: none; width: 16px; height: 16px; border: 1px solid ${color.edge}; }
  &[data-selected]::before { background: ${color.accent}; box-shadow: inset 0 0 0 3px ${color.sheet}; border-color: ${color.accent}; }
`;

/** A dialog with its title. */
export function Frame({ title, close, children, alone }: { title: string; close: () => void; children: ReactNode; alone?: boolean }) {
  return (
    <Overlay style={alone ? { background: color.paper } : undefined} isOpen onOpenChange={(open) => !open && close()} isDismissable>
      <Box>
        <Inside aria-label={title}>
          <Heading slot="title" level={2}>
            {title}
          </Heading>
          {children}
        </Inside>
      </Box>
    </Overlay>
  );
}

/** Asks who stands at the bench. */
export function NameDialog({ name, done, close }: { name: string; done: (name: string) => void; close: () => void }) {
  const [value, setValue] = useState(name);
  return (
    <Frame title="Who is at the bench?" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          if (value.trim()) done(value.trim());
        }}
      >
        <TextField value={value} onChange={setValue} autoFocus maxLength={100}>
          <Label>Your name goes with what you start and sign</Label>
          <Input />
        </TextField>
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!value.trim()}>
            Go on
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

const choices: Grade[] = ["healthy", "degrading", "replace"];

/** Overrules a verdict: another grade, and why. */
export function OverruleDialog({
  grade,
  wrong,
  done,
  close,
}: {
  grade: Grade;
  wrong?: string;
  done: (grade: Grade, reason: string) => void;
  close: () => void;
}) {
  const [chosen, choose] = useState<Grade>();
  const [reason, setReason] = useState("");
  return (
    <Frame title={`Overrule: ${grade}`} close={close}>
      <RadioGroup value={chosen ?? null} onChange={(g) => choose(g as Grade)}>
        <Label>Your verdict</Label>
        {choices
          .filter((g) => g !== grade)
          .map((g) => (
            <Choice key={g} value={g}>
              <VerdictWord grade={g} />
            </Choice>
          ))}
      </RadioGroup>
      <TextField value={reason} onChange={setReason} maxLength={1000}>
        <Label>Reason, kept beside both verdicts</Label>
        <TextArea rows={3} />
      </TextField>
      {wrong && <p role="alert">{wrong}</p>}
      <footer>
        <Button onPress={close}>Cancel</Button>
        <Button $filled isDisabled={!chosen || !reason.trim()} onPress={() => chosen && done(chosen, reason)}>
          {chosen ? `Sign: ${chosen}` : "Sign"}
        </Button>
      </footer>
    </Frame>
  );
}

/** Asks why a surface is loaded although the data on it is wanted and not copied. */
export function DespiteDialog({ title, done, close }: { title: string; done: (why: string) => void; close: () => void }) {
  const [why, setWhy] = useState("");
  return (
    <Frame title={`${title}, although its data is at risk?`} close={close}>
      <p>The data is wanted and not copied. Reading the surface can be what ends a failing drive. Copy first, or say why it must be now.</p>
      <TextField value={why} onChange={setWhy} maxLength={300} autoFocus>
        <Label>Reason, kept with the run</Label>
        <TextArea rows={3} />
      </TextField>
      <footer>
        <Button onPress={close}>Cancel</Button>
        <Button $filled isDisabled={why.trim().length < 3} onPress={() => done(why.trim())}>
          Start it
        </Button>
      </footer>
    </Frame>
  );
}

const scopes: { kind: ReworkKind; about: string }[] = [
  { kind: "mend", about: "Only sectors that cannot be read are written" },
  { kind: "renew", about: "All data is read and written back in place" },
  { kind: "overwrite", about: "All data is destroyed" },
];

/** Records the owner's consent. */
export function ReleaseDialog({
  wrong,
  done,
  close,
}: {
  wrong?: string;
  done: (scope: ReworkKind, owner: string) => void;
  close: () => void;
}) {
  const [scope, choose] = useState<ReworkKind>();
  const [owner, setOwner] = useState("");
  return (
    <Frame title="Release by the owner" close={close}>
      <p>For this intake only. A wider scope covers the lesser ones.</p>
      <RadioGroup value={scope ?? null} onChange={(s) => choose(s as ReworkKind)}>
        <Label>What the owner allows</Label>
        {scopes.map((s) => (
          <Choice key={s.kind} value={s.kind}>
            <b>{s.kind}</b> {s.about}
          </Choice>
        ))}
      </RadioGroup>
      <TextField value={owner} onChange={setOwner} maxLength={200}>
        <Label>Who consented, and how</Label>
        <Input />
      </TextField>
      {wrong && <p role="alert">{wrong}</p>}
      <footer>
        <Button onPress={close}>Cancel</Button>
        <Button $filled isDisabled={!scope || !owner.trim()} onPress={() => scope && done(scope, owner.trim())}>
          Record the release
        </Button>
      </footer>
    </Frame>
  );
}

const warnings: Record<ReworkKind, string> = {
  mend: "Writes zeros to the sectors that cannot be read, and reads them again.",
  renew: "Reads everything and writes it back in place. Hours.",
  overwrite: "Destroys all data: writes a pattern everywhere, and reads it back. Hours.",
};

/** Asks for the end of the serial, as it stands on the drive's label. The page behind it does not show through. */
export function ReworkDialog({
  kind,
  bay,
  ready,
  against,
  wrong,
  busy,
  done,
  close,
}: {
  kind: ReworkKind;
  bay: string;
  ready?: ReworkReady; // what it would write; absent until that is known
  against?: string; // what stands against it: the serial is not asked for
  wrong?: string;
  busy?: boolean;
  done: (ending: string) => void;
  close: () => void;
}) {
  const [ending, setEnding] = useState("");
  const go = () => ending.trim().length >= 6 && done(ending.trim());
  return (
    <Frame title={`${kind[0]?.toUpperCase()}${kind.slice(1)} the drive in ${bayWords(bay)}`} close={close} alone>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          go();
        }}
      >
        <p>{warnings[kind]}</p>
        {ready && (
          <p>
            {number(ready.sectors)} {ready.sectors === 1 ? "sector is" : "sectors are"} written, about {left(ready.takes_s)}.
          </p>
        )}
        {against && <p role="alert">{against}</p>}
        {ready && !against && (
          <TextField value={ending} onChange={setEnding} maxLength={100} autoFocus>
            <Label>End of the serial from the label on the drive: scan it, or type six characters or more</Label>
            <Input autoComplete="off" spellCheck={false} />
          </TextField>
        )}
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>{against ? "Close" : "Cancel"}</Button>
          {!against && (
            <Button $filled type="submit" isDisabled={ending.trim().length < 6 || busy}>
              Begin to {kind}
            </Button>
          )}
        </footer>
      </Form>
    </Frame>
  );
}
