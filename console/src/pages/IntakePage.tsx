import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { Input, Label, TextArea, TextField } from "react-aria-components";
import { useNavigate, useSearchParams } from "react-router";
import styled, { css } from "styled-components";
import { emptyDraft, type IntakeDraft, sameSerial, useIntakeDraft } from "../data/intakeDraft";
import { useDesk } from "../data/orders";
import { usePerson } from "../data/person";
import { useBays, useLots } from "../data/queries";
import type { Duty, Language } from "../data/types";
import { Button, Keys, State, Wrong } from "../parts/basics";
import { Choices } from "../parts/Choices";
import { bayShort, bayWords, capital, clockOf } from "../parts/format";
import { Answers, Follows } from "../parts/IntakeParts";
import { Glyph } from "../parts/marks";
import { hidden } from "../theme/Global";
import { color, narrow, px, text } from "../theme/tokens";
import { useActions } from "./Shell";
import { KeyReader, useShortcuts } from "./shortcuts";

/** What an owner's papers can be written in, each by its own name. */
const languages: [Language, string][] = [
  ["en", "English"],
  ["de", "Deutsch"],
  ["fr", "Français"],
  ["es", "Español"],
];

const Scan = styled.section`
  display: flex; align-items: center; gap: 16px; padding: 12px 24px; border-bottom: 1px solid ${color.rule}; min-height: 80px;
    flex-wrap: wrap;
  & .field { position: relative; width: 400px; max-width: 100%; }
  & input { width: 100%; height: 56px; border: 1px solid ${color.ink}; padding: 4px 12px; background: ${color.sheet};
    font-size: ${px.title}; letter-spacing: 0.02em; font-weight: 600; }
  & .small { ${text.small} color: ${color.ink2}; }
  & .push { margin-left: auto; text-align: right; }
  @media (max-width: ${narrow}px) { & .push { margin: 0; text-align: left; } }
`;
const Columns = styled.form`display: grid; grid-template-columns: repeat(auto-fill, minmax(min(400px, 100%), 1fr)); gap: 16px;
  padding: 16px 24px 0;`;
const Step = styled.section<{ $current: boolean }>`
  background: ${color.sheet}; padding: 12px 16px 16px; min-height: 592px; display: flex; flex-direction: column; gap: 12px; min-width: 0;
  box-shadow: inset 0 2px ${color.ink}, inset 0 0 0 1px ${color.rule};
  ${({ $current }) => $current && css`box-shadow: inset 0 4px ${color.accent}, inset 0 0 0 1px ${color.edge};`}
  & > header { display: flex; align-items: baseline; gap: 12px; }
  & > header b { ${text.display} } & > header h2 { ${text.large} }
  & > header .push { margin-left: auto; ${text.small} color: ${color.ink3}; }
  & .q { border-top: 1px solid ${color.rule}; padding-top: 8px; }
  & .q label, & .pair label { display: block; ${text.small} color: ${color.ink2}; margin-bottom: 4px; }
  & input, & textarea, & select { width: 100%; min-height: 44px; padding: 8px 12px; border: 1px solid ${color.edge};
    background: ${color.paper}; }
  & textarea { resize: vertical; } & select { font: inherit; color: inherit; }
  & .pair { display: grid; grid-template-columns: 1fr 1fr; gap: 12px; border-top: 1px solid ${color.rule}; padding-top: 8px; }
  & dl { display: grid; grid-template-columns: 112px minmax(0, 1fr); row-gap: 2px; }
  & dt { color: ${color.ink3}; font-size: ${px.small}; line-height: 22px; }
  & .end { margin-top: auto; display: grid; gap: 12px; }
  & .differs { font-weight: 600; }
  @media (max-width: ${narrow}px) { min-height: 0; }
`;
const Gate = styled.div`
  background: ${color.undecidedTint}; padding: 12px 16px; display: grid; grid-template-columns: 24px 1fr;
    border-top: 2px solid ${color.ink};
  & svg { margin-top: 3px; grid-row: span 2; } & b { ${text.large} margin-top: -2px; } & p { grid-column: 2; }
`;

const yesNo = [
  { value: "yes", words: "Yes", press: "y" },
  { value: "no", words: "No", press: "n" },
] as const;
const asAnswer = (b: boolean | undefined) => (b === undefined ? undefined : b ? "yes" : "no");
const noises = [
  { value: "quiet", words: "Quiet", press: "1" },
  { value: "clicks", words: "Clicks", about: "stop trying", press: "2" },
  { value: "still", words: "Does not spin", press: "3" },
  { value: "none", words: "Flash", about: "nothing to hear", press: "4" },
] as const;
const releases = [
  { value: "none", words: "Nothing", about: "no rework at this intake", press: "0" },
  { value: "mend", words: "Mend", about: "unreadable sectors are rewritten", press: "1" },
  { value: "renew", words: "Renew", about: "all data is written again in place", press: "2" },
  { value: "overwrite", words: "Overwrite", about: "everything is written over", press: "3" },
] as const;
const duties = [
  { value: "archive", words: "archive", press: "1" },
  { value: "continuous", words: "continuous", press: "2" },
  { value: "everyday", words: "everyday", press: "3" },
  { value: "carry", words: "carry", press: "4" },
] as const;

/** Enter goes to the next question, Shift+Enter to the one before. */
function step(e: KeyboardEvent<HTMLFormElement>) {
  const target = e.target as HTMLElement;
  if (e.key !== "Enter" || target.tagName === "BUTTON" || (target.tagName === "TEXTAREA" && e.ctrlKey)) return;
  e.preventDefault();
  const all = [...e.currentTarget.querySelectorAll<HTMLElement>("[data-question]")];
  const at = all.findIndex((q) => q.contains(target));
  const next = all[at + (e.shiftKey ? -1 : 1)];
  const focusable = next?.querySelector<HTMLElement>("input:checked, input, select, textarea, button");
  (next?.matches("button") ? next : focusable)?.focus();
}

/** Takes what a scanner typed out of the field that happened to have the focus. */
function takeBack(target: EventTarget, text: string): boolean {
  if (!(target instanceof HTMLInputElement || target instanceof HTMLTextAreaElement) || !target.value.endsWith(text)) return false;
  const prototype = target instanceof HTMLInputElement ? HTMLInputElement.prototype : HTMLTextAreaElement.prototype;
  // React listens to the element's own setter; the prototype's is what a person's typing uses.
  Object.getOwnPropertyDescriptor(prototype, "value")?.set?.call(target, target.value.slice(0, -text.length));
  target.dispatchEvent(new Event("input", { bubbles: true }));
  return true;
}

/** Takes a drive in: what arrived, what answers, release and duty. */
export default function IntakePage() {
  const bays = useBays();
  const lots = useLots();
  const person = usePerson();
  const desk = useDesk(person.name);
  const { asPerson } = useActions();
  const go = useNavigate();
  const [search] = useSearchParams();
  const [draft, set, forget] = useIntakeDraft(search.get("bay") || undefined);
  const [scanned, noteScan] = useState<Date>();
  const [taken, setTaken] = useState<number>();
  const form = useRef<HTMLFormElement>(null);
  const scanner = useRef(new KeyReader());

  const scan = (text: string) => {
    const found = bays.data?.find((b) => b.drive && sameSerial(text, b.drive.serial));
    set({ serial: text, bay: found?.name ?? draft.bay });
    noteScan(new Date());
  };
  useShortcuts({}, undefined, scan);
  const ready = bays.data !== undefined;
  useEffect(() => {
    if (ready) form.current?.querySelector<HTMLElement>("[data-question] textarea, [data-question] input")?.focus();
  }, [ready]);

  if (bays.isError && !bays.data) return <Wrong error={bays.error} retry={() => bays.refetch()} />;
  if (!bays.data) return <State title="Looking at the bench" />;
  const bay = bays.data.find((b) => b.name === draft.bay);
  const lot = lots.data?.find((l) => l.open);
  const differs = bay?.drive && draft.serial !== "" && !sameSerial(draft.serial, bay.drive.serial);
  const begun = Object.entries(draft).some(([name, value]) => value !== emptyDraft[name as keyof IntakeDraft]);
  const risk = draft.wanted === true && !draft.copied;
  const current = draft.wanted === undefined ? 1 : !bay || differs ? 2 : 3;

  const takeIn = async () => {
    if (!bay) return;
    const label = [draft.label.trim(), draft.noise === "still" ? "does not spin" : draft.noise === "clicks" ? "clicks" : ""];
    const done = await desk.takeIn.mutateAsync({
      bay: bay.name,
      ticket: draft.ticket.trim() || undefined,
      customer: draft.customer.trim() || undefined,
      language: draft.language,
      complaint: draft.complaint.trim() || undefined,
      label: label.filter(Boolean).join("; ") || undefined,
      made: /^\d{4}-\d{2}$/.test(draft.made) ? draft.made : undefined,
      clicks: draft.noise === "clicks",
      wanted: draft.wanted,
      copied: draft.wanted && draft.copied,
      duty: draft.duty,
      instead: bay.intake && { ticket: draft.insteadTicket.trim(), customer: draft.insteadCustomer.trim() },
      release: draft.release === "none" ? undefined : { scope: draft.release, owner: draft.owner.trim() || draft.customer.trim() },
    });
    forget();
    noteScan(undefined);
    setTaken(done.id);
  };
  const start = () => asPerson(() => setTimeout(() => takeIn().catch(() => undefined))); // what went wrong is shown by the shell

  return (
    <>
      <title>Intake · Hylostat</title>
      <h1 style={hidden}>Take in</h1>
      <Scan aria-label="Scan">
        <TextField className="field" value={draft.serial} onChange={(serial) => set({ serial })} aria-label="Serial from the label">
          <Input placeholder="serial from the label" autoComplete="off" spellCheck={false} />
        </TextField>
        <div>
          <b>{scanned ? `Scanned at ${clockOf(scanned)}` : "Scan the label"}</b>
          <p className="small">A scanner types here from anywhere on this page.</p>
        </div>
        <div className="push">
          <b>{taken ? `Intake ${taken} opened` : bay ? capital(bayWords(bay.name)) : "No bay chosen"}</b>
          <p className="small">
            {lot
              ? `Lot ${lot.id} is open: what is put in belongs to it`
              : [draft.customer, draft.ticket && `ticket ${draft.ticket}`].filter(Boolean).join(", ")}
          </p>
        </div>
      </Scan>
      <Columns
        ref={form}
        onKeyDownCapture={(e) => {
          const read = scanner.current.feed(e.key, e.timeStamp);
          if (read && takeBack(e.target, read)) {
            e.preventDefault();
            scan(read);
          } else if (e.key === "Escape") go("/");
          else step(e);
        }}
        onSubmit={(e) => e.preventDefault()}
      >
        <Step $current={current === 1} aria-label="What arrived">
          <header>
            <b>1</b>
            <h2>What arrived</h2>
            <span className="push">{current === 1 ? "now" : "done"}</span>
          </header>
          <div className="q" data-question="">
            <TextField value={draft.complaint} onChange={(complaint) => set({ complaint })} maxLength={500}>
              <Label>Complaint</Label>
              <TextArea rows={2} />
            </TextField>
          </div>
          <Choices
            question="Is the data wanted?"
            options={yesNo}
            value={asAnswer(draft.wanted)}
            choose={(v) => set({ wanted: v === "yes", copied: v === "yes" && draft.copied })}
          />
          {draft.wanted && (
            <Choices
              question="Has it been copied?"
              options={yesNo}
              value={asAnswer(draft.copied)}
              choose={(v) => set({ copied: v === "yes" })}
            />
          )}
          <Choices question="By hand" options={noises} value={draft.noise} choose={(noise) => set({ noise })} />
          <div className="pair">
            <TextField data-question="" value={draft.ticket} onChange={(ticket) => set({ ticket })} maxLength={100}>
              <Label>Ticket</Label>
              <Input />
            </TextField>
            <TextField data-question="" value={draft.customer} onChange={(customer) => set({ customer })} maxLength={100}>
              <Label>Customer</Label>
              <Input />
            </TextField>
            <div data-question="">
              <label htmlFor="papers">Papers in</label>
              <select
                id="papers"
                value={draft.language ?? ""}
                onChange={(e) => set({ language: (e.target.value as Language) || undefined })}
              >
                <option value="">as last time</option>
                {languages.map(([tag, name]) => (
                  <option key={tag} value={tag}>
                    {name}
                  </option>
                ))}
              </select>
            </div>
            <TextField data-question="" value={draft.made} onChange={(made) => set({ made })} maxLength={7}>
              <Label>Made, by the label</Label>
              <Input placeholder="2022-02" />
            </TextField>
            <TextField data-question="" value={draft.label} onChange={(label) => set({ label })} maxLength={400}>
              <Label>Label</Label>
              <Input placeholder="2.5 in, no caddy" />
            </TextField>
          </div>
        </Step>
        <Step $current={current === 2} aria-label="What answers">
          <header>
            <b>2</b>
            <h2>What answers</h2>
            <span className="push">{bay?.drive ? (differs ? "look again" : "done") : bay ? bay.connection : "no bay"}</span>
          </header>
          <Choices
            question="In which bay is it?"
            columns={4}
            options={bays.data
              .filter((b) => !b.hidden)
              .map((b) => ({
                value: b.name,
                words: bayShort(b.name),
                press: b.bench === "" && b.number < 10 ? String(b.number) : "",
              }))}
            value={draft.bay}
            choose={(name) => set({ bay: name })}
          />
          {bay?.intake && (
            <>
              <Gate role="alert">
                <Glyph name="stuck" />
                <b>On intake {bay.intake.id} already</b>
                <p>
                  Hand it over first, or put that intake right on its drive's page. To take it in anew in its place, name its ticket
                  {bay.intake.ticket ? "" : `, which is ${bay.intake.id} since it has none,`} and its customer.
                  {bay.intake.at_risk && " Its data is wanted and not copied: it stays protected."}
                </p>
              </Gate>
              <div className="pair">
                <TextField
                  data-question=""
                  value={draft.insteadTicket}
                  onChange={(insteadTicket) => set({ insteadTicket })}
                  maxLength={100}
                >
                  <Label>Ticket of intake {bay.intake.id}</Label>
                  <Input autoComplete="off" />
                </TextField>
                <TextField
                  data-question=""
                  value={draft.insteadCustomer}
                  onChange={(insteadCustomer) => set({ insteadCustomer })}
                  maxLength={100}
                >
                  <Label>Its customer</Label>
                  <Input autoComplete="off" />
                </TextField>
              </div>
            </>
          )}
          <Answers bay={bay} draft={draft} />
          {differs && (
            <Gate role="alert">
              <Glyph name="stuck" />
              <b>Not the drive on the label</b>
              <p>The serial scanned is not the one that answers in {bayWords(bay?.name ?? "")}. Look which drive is in which bay.</p>
            </Gate>
          )}
          {risk && (
            <Gate>
              <Glyph name="copy" />
              <b>Data at risk</b>
              <p>Wanted and not copied. Identity and counters may be read; nothing that loads the surface starts by itself.</p>
            </Gate>
          )}
        </Step>
        <Step $current={current === 3} aria-label="Release and duty">
          <header>
            <b>3</b>
            <h2>Release and duty</h2>
            <span className="push">{current === 3 ? "now" : ""}</span>
          </header>
          <Choices
            question="What may be destroyed on it, says its owner"
            columns={1}
            options={releases}
            value={draft.release}
            choose={(r) => set({ release: r })}
          />
          {draft.release !== "none" && (
            <div className="q" data-question="">
              <TextField value={draft.owner} onChange={(owner) => set({ owner })} maxLength={200}>
                <Label>Who consented, and how</Label>
                <Input placeholder={draft.customer || "the owner, by letter"} />
              </TextField>
            </div>
          )}
          <Choices<Duty> question="What it is meant for" options={duties} value={draft.duty} choose={(duty) => set({ duty })} />
          <div className="q">
            <Follows draft={draft} bay={bay} />
          </div>
          <div className="end" data-question="">
            <Button
              $filled
              onPress={start}
              isDisabled={
                !bay ||
                differs ||
                draft.wanted === undefined ||
                (bay.intake && draft.insteadTicket.trim() === "") ||
                desk.takeIn.isPending ||
                (draft.release !== "none" && !(draft.owner.trim() || draft.customer.trim()))
              }
            >
              {bay?.intake ? "Take in, in its place" : risk ? "Take in, checks wait" : "Take in"}
            </Button>
            {begun && <Button onPress={forget}>Begin anew</Button>}
          </div>
        </Step>
      </Columns>
      <Keys>
        <span>
          <kbd>1</kbd> <kbd>y</kbd> answer the question in focus
        </span>
        <span>
          <kbd>Enter</kbd> the next
        </span>
        <span>
          <kbd>Shift</kbd> <kbd>Enter</kbd> the one before
        </span>
        <span>
          <kbd>Esc</kbd> leave, kept as a draft
        </span>
        <span>Keys less than 35 ms apart are a scan</span>
      </Keys>
    </>
  );
}
