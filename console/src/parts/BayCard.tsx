import { ToggleButton } from "react-aria-components";
import styled, { css } from "styled-components";
import type { Alert, Bay, Grade } from "../data/types";
import { hidden } from "../theme/Global";
import { color, px, text } from "../theme/tokens";
import { Badge } from "./AlertParts";
import { Bar, Button, Serial } from "./basics";
import { checkNames } from "./CheckMenu";
import { bayShort, bayWords, capital, clockOf, left, size } from "./format";
import { Glyph, gradeColor, gradeTint, VerdictMark } from "./marks";

const hatch = (ink: string, back: string) => `repeating-linear-gradient(135deg, ${ink} 0 3px, ${back} 3px 7px)`;

const Card = styled.article<{ $connection: Bay["connection"]; $locked: boolean }>`
  display: grid; grid-template-columns: 56px minmax(0, 1fr); min-height: 156px; background: ${color.sheet}; position: relative;
  box-shadow: inset 0 0 0 1px ${color.rule};
  &::after { content: ""; position: absolute; inset: 0 0 auto 0; height: 2px; background: ${color.ink}; }
  ${({ $connection }) =>
    $connection === "silent" &&
    css`
    &::after { background: repeating-linear-gradient(90deg, ${color.ink} 0 24px, ${color.paper} 24px 40px); }`}
  ${({ $connection }) =>
    $connection === "stuck" &&
    css`
    &::after { height: 8px; background: ${hatch(color.ink, color.sheet)}; border-bottom: 1px solid ${color.ink}; }`}
  ${({ $locked }) => $locked && css`outline: 2px solid ${color.ink}; outline-offset: -2px;`}
  ${({ $connection }) =>
    $connection === "empty" &&
    css`
    background: none; box-shadow: none; outline: 1px dashed ${color.edge}; outline-offset: -1px; &::after { display: none; }`}
`;

const Gutter = styled.div<{ $grade: Grade; $empty: boolean; $chosen: boolean }>`
  position: relative; ${({ $chosen }) => $chosen && css`box-shadow: inset 0 0 0 4px ${color.accent};`}
  background: ${({ $grade, $empty }) => ($empty ? "none" : $grade === "replace" ? color.replace : gradeTint[$grade])};
  color: ${({ $grade, $empty }) => ($empty ? color.ink3 : $grade === "replace" ? color.on : color.ink)};
  ${({ $empty }) => $empty && css`border-right: 1px dashed ${color.edge};`}
  padding: 8px 0; display: grid; grid-template-rows: 44px 44px; row-gap: 4px; justify-items: center; align-items: center;
  align-content: start;
  & b { ${text.display} letter-spacing: -0.01em; ${({ $empty }) => $empty && css`font-weight: 400;`} }
`;

/** The whole gutter is what one touches to choose a bay. */
const Choose = styled(ToggleButton)`
  position: absolute; inset: 0; padding: 0 0 8px; border: 0; background: none; color: inherit; cursor: pointer; display: flex;
  align-items: end; justify-content: center; ${text.large} font-weight: 600;
`;

const Body = styled.div`
  padding: 8px 12px; display: grid; grid-template-rows: 44px 22px 22px 52px; min-width: 0;
  & .one { white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
  & .soft { color: ${color.ink2}; }
`;

const First = styled.p<{ $grade: Grade }>`
  display: flex; align-items: baseline; white-space: nowrap; ${text.display} min-width: 0;
  & > .verdict { margin-left: auto; padding-left: 8px; ${text.large} font-weight: 600; color: ${({ $grade }) => gradeColor[$grade]}; }
  & > .soft { color: ${color.ink3}; font-size: ${px.title}; }
  & > .what { font-size: ${px.title}; line-height: 44px; overflow: hidden; text-overflow: ellipsis; }
`;

const Doing = styled.p`display: flex; align-items: center; gap: 8px; min-width: 0;`;

const Last = styled.div`
  margin-top: 8px; display: grid; grid-template-columns: minmax(0, 1fr) 104px; gap: 16px; align-items: end;
  & button { padding: 0 4px; }
  & .left { min-width: 0; align-self: end; }
  & .note { display: flex; gap: 8px; align-items: center; min-height: 44px; color: ${color.ink2}; }
  & .note i { flex: none; line-height: 0; }
  & .note span { overflow: hidden; display: -webkit-box; -webkit-line-clamp: 2; -webkit-box-orient: vertical; }
  & .time { ${text.large} font-weight: 600; margin-bottom: 8px; display: flex; align-items: baseline; justify-content: space-between; }
  & .time small { ${text.small} font-weight: 400; color: ${color.ink2}; }
`;

/** The one action of a bay, its label, and whether a person is awaited for it. */
export const actions: Record<Bay["action"], { label: string; awaited: boolean }> = {
  open: { label: "Open", awaited: false },
  drive_in: { label: "Drive is in", awaited: false },
  try_again: { label: "Try again", awaited: true },
  check: { label: "Quick check", awaited: true },
  sign: { label: "Sign", awaited: true },
  review: { label: "Review", awaited: true },
  record_copy: { label: "Record copy", awaited: true },
};

/** What is missing first leads to one of these. */
const checks: Record<NonNullable<Bay["check"]>, string> = { ...checkNames, extended: "Extended" }; // as wide as there is room

/** What the button of a bay says. */
const labelOf = (bay: Bay) => (bay.action === "check" ? checks[bay.check ?? "quick"] : actions[bay.action].label);

/** What a bay says when its drive may be taken out. */
const removableCodes = new Set(["bay.removable", "bay.removable.protected", "bay.removable.signed"]);

/** The same, also behind what its last run came to. */
const removable = (note: Bay["note"]) =>
  removableCodes.has(note?.code ?? "") || removableCodes.has((note?.values?.note as Bay["note"])?.code ?? "");

export const gradeOf = (bay: Bay): Grade => bay.drive?.grade ?? "undecided";

function glyphOf(bay: Bay) {
  if (bay.connection === "silent") return <Glyph name="silent" />;
  if (bay.connection === "stuck") return <Glyph name="stuck" />;
  if (bay.drive?.security.locked) return <Glyph name="locked" />;
  if (bay.action === "record_copy") return <Glyph name="copy" />;
  return null;
}

function about(bay: Bay): string {
  if (bay.drive) {
    const kind =
      bay.drive.medium === "flash"
        ? `${{ ata: "SATA", nvme: "NVMe", scsi: "SAS", unknown: "" }[bay.drive.interface]} SSD`.trim()
        : undefined;
    const from = bay.intake?.customer ?? (bay.drive.readings > 1 ? `${bay.drive.readings} readings` : "first seen now");
    return [bay.drive.model, bay.drive.bytes && size(bay.drive.bytes), kind, from].filter(Boolean).join(" · ");
  }
  if (bay.intake?.label) return bay.intake.label;
  if (bay.attached) return [bay.attached.transport, bay.attached.serial, size(bay.attached.bytes)].filter(Boolean).join(" · ");
  return bay.address;
}

function Name({ bay }: { bay: Bay }) {
  if (bay.connection === "empty") return <span className="soft">Empty</span>;
  if (bay.drive) return <Serial serial={bay.drive.serial} />;
  if (bay.intake) return <Serial serial={String(bay.intake.id)} before="intake" />;
  if (bay.attached) return <span className="what">{bay.attached.model ?? bay.attached.transport}</span>;
  return <span className="what">no name</span>;
}

/** One bay of the bench: what is in it, what is going on, and the one thing to do. */
export function BayCard({
  bay,
  act,
  chosen,
  choose,
  alerts = [],
}: {
  bay: Bay;
  act: (bay: Bay) => void;
  chosen?: boolean;
  choose?: (bay: Bay) => void;
  /** Of its drive, that nobody has settled. */
  alerts?: Alert[];
}) {
  const grade = gradeOf(bay);
  const empty = bay.connection === "empty";
  const action = actions[bay.action];
  const name = bay.drive?.serial ?? (bay.intake ? `intake ${bay.intake.id}` : bay.connection);
  const doing = bay.doing.words;
  return (
    <Card
      $connection={bay.connection}
      $locked={bay.drive?.security.locked ?? false}
      aria-label={`${capital(bayWords(bay.name))}, ${name}, ${empty ? "empty" : grade}`}
    >
      <Gutter $grade={grade} $empty={empty} $chosen={chosen ?? false}>
        <b>{bay.number}</b>
        {!empty && <VerdictMark grade={grade} size={40} fill={grade === "replace" ? color.on : undefined} />}
        {choose && bay.drive && (
          <Choose isSelected={chosen ?? false} onChange={() => choose(bay)} aria-label={`Choose ${bayWords(bay.name)}`}>
            {chosen ? "✓" : ""}
          </Choose>
        )}
      </Gutter>
      <Body>
        <First $grade={grade}>
          <Name bay={bay} />
          {!empty && (
            <span className="verdict">
              {grade}
              <Badge alerts={alerts.length} loud={alerts.some((a) => a.state === "open")} words={alerts[0]?.words.words} />
            </span>
          )}
        </First>
        <p className="one soft">{[bay.label, about(bay)].filter(Boolean).join(" · ")}</p>
        <Doing>
          {glyphOf(bay)}
          <span className="one" title={doing}>
            {doing}
          </span>
        </Doing>
        <Last>
          <div className="left">
            {bay.run ? (
              <>
                <p className="time">
                  {left(bay.run.left_s)} left<small>{bay.run.percent} %</small>
                </p>
                <Bar percent={bay.run.percent} label={`Progress of ${bayWords(bay.name)}`} />
              </>
            ) : (
              <p className="note">
                {removable(bay.note) && (
                  <i title="Safe to remove">
                    <Glyph name="eject" />
                    {!removableCodes.has(bay.note?.code ?? "") && <b style={hidden}>Safe to remove.</b>}
                  </i>
                )}
                <span>{bay.note?.words ?? `Since ${clockOf(bay.since)}`}</span>
              </p>
            )}
          </div>
          <Button $filled={action.awaited} onPress={() => act(bay)} isDisabled={bay.action === "open" && !bay.drive}>
            {labelOf(bay)}
          </Button>
        </Last>
      </Body>
    </Card>
  );
}

const FarCard = styled.article<{ $grade: Grade; $empty: boolean }>`
  display: grid; grid-template-columns: 104px minmax(0, 1fr); grid-template-rows: 80px 80px; align-content: center;
  align-items: center; height: 196px;
  border-top: 2px ${({ $empty }) => ($empty ? "dashed" : "solid")} ${({ $empty }) => ($empty ? color.edge : color.ink)};
  ${({ $grade, $empty }) =>
    !$empty &&
    css`
    background: linear-gradient(90deg, ${$grade === "replace" ? color.replace : gradeTint[$grade]} 96px, transparent 0);`}
  ${text.far} white-space: nowrap;
  & > .no { justify-self: center; margin-right: 8px; letter-spacing: -0.05em;
    ${({ $grade, $empty }) => $grade === "replace" && !$empty && css`color: ${color.on};`} }
  & > svg { justify-self: center; margin-right: 8px; }
  & > b { letter-spacing: 0.01em; }
  & > p { letter-spacing: -0.02em; overflow: hidden; }
  & .awaited { font-weight: 600; }
`;

/** What holds a bay up that no action of its own explains. */
function farReason(bay: Bay): string {
  if (bay.connection === "stuck") return "stuck";
  if (bay.connection === "unread") return "unread";
  if (bay.run) return left(bay.run.left_s);
  if (bay.drive?.security.locked) return "locked";
  if (bay.drive?.other_bays?.includes(bay.name)) return `see ${bayShort(bay.drive.bay ?? "")}`;
  return farWords[bay.action] || (bay.drive?.signed ? "signed" : "");
}

const farWords: Record<Bay["action"], string> = {
  open: "",
  drive_in: "empty",
  try_again: "silent",
  check: "check",
  sign: "sign",
  review: "review",
  record_copy: "copy?",
};

/** A bay as it is read from three metres. */
export function FarBay({ bay, alerts = [] }: { bay: Bay; alerts?: Alert[] }) {
  const grade = gradeOf(bay);
  const empty = bay.connection === "empty";
  const ending = bay.drive?.serial.slice(-5) ?? (bay.intake ? String(bay.intake.id) : (bay.attached?.transport ?? ""));
  const alarmed = alerts.some((a) => a.state === "open") && !bay.run;
  const word = alarmed ? "alert" : farReason(bay);
  return (
    <FarCard $grade={grade} $empty={empty} aria-label={`${capital(bayWords(bay.name))}, ${empty ? "empty" : grade}`}>
      <span className="no">{bay.number}</span>
      {empty ? <p>empty</p> : <b>{ending}</b>}
      {!empty && <VerdictMark grade={grade} size={64} fill={grade === "replace" ? color.on : undefined} />}
      {!empty && <p className={alarmed || actions[bay.action].awaited ? "awaited" : undefined}>{word}</p>}
    </FarCard>
  );
}
