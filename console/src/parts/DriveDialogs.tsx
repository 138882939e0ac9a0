import type { ComponentProps } from "react";
import { useReworkReady } from "../data/queries";
import type { CheckKind, Drive, Duty, Grade, HandoverRequest, IntakeCorrection, OutcomeRequest, ReworkKind, Verdict } from "../data/types";
import { CorrectionDialog, DutyDialog, HandoverDialog, OutcomeDialog } from "./DeskDialogs";
import { DespiteDialog, OverruleDialog, ReleaseDialog, ReworkDialog } from "./Dialogs";

/** What a drive's page asks a person before it does something. */
export type DriveQuestion =
  | { about: "despite"; check: CheckKind }
  | { about: "release" }
  | { about: "rework"; kind: ReworkKind }
  | { about: "handover" }
  | { about: "correction" }
  | { about: "duty" }
  | { about: "outcome" }
  | { about: "overrule" };

/** How an order stands that a dialog gave. */
export interface Given {
  wrong?: string;
  busy: boolean;
}

export interface DriveAnswers {
  despite: (check: CheckKind, why: string) => void;
  release: (scope: ReworkKind, owner: string) => void;
  rework: (kind: ReworkKind, ending: string) => void;
  handover: (h: Omit<HandoverRequest, "by">) => void;
  correction: (right: Omit<IntakeCorrection, "by">) => void;
  duty: (duty: Duty) => void;
  outcome: (o: Omit<OutcomeRequest, "by">) => void;
  overrule: (grade: Grade, reason: string) => void;
}

/** A rework asks for the serial when all else stands. */
function AskedRework({ drive, ...dialog }: { drive: Drive } & Omit<ComponentProps<typeof ReworkDialog>, "bay" | "ready" | "against">) {
  const ready = useReworkReady(drive.serial, dialog.kind);
  return <ReworkDialog {...dialog} bay={drive.bay ?? ""} ready={ready.data} against={ready.error?.message} />;
}

/** The one dialog of a drive's page that is open. */
export function DriveDialogs({
  asked,
  drive,
  verdict,
  given,
  answer,
  today,
  close,
}: {
  asked?: DriveQuestion;
  drive: Drive;
  verdict?: Verdict;
  given: Given;
  answer: DriveAnswers;
  /** As 2027-02-01. */
  today: string;
  close: () => void;
}) {
  const { wrong, busy } = given;
  switch (asked?.about) {
    case "despite":
      return <DespiteDialog title={`A ${asked.check} check`} close={close} done={(why) => answer.despite(asked.check, why)} />;
    case "release":
      return <ReleaseDialog wrong={wrong} close={close} done={answer.release} />;
    case "rework":
      return (
        <AskedRework
          kind={asked.kind}
          drive={drive}
          wrong={wrong}
          busy={busy}
          close={close}
          done={(ending) => answer.rework(asked.kind, ending)}
        />
      );
    case "handover":
      return drive.intake ? (
        <HandoverDialog intake={drive.intake} unsigned={!verdict?.signed} wrong={wrong} busy={busy} close={close} done={answer.handover} />
      ) : null;
    case "correction":
      return drive.intake ? (
        <CorrectionDialog intake={drive.intake} wrong={wrong} busy={busy} close={close} done={answer.correction} />
      ) : null;
    case "duty":
      return verdict ? <DutyDialog now={verdict.duty} wrong={wrong} busy={busy} close={close} done={answer.duty} /> : null;
    case "outcome":
      return <OutcomeDialog today={today} wrong={wrong} busy={busy} close={close} done={answer.outcome} />;
    case "overrule":
      return verdict ? <OverruleDialog grade={verdict.grade} wrong={wrong} close={close} done={answer.overrule} /> : null;
    default:
      return null;
  }
}
