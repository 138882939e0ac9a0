import { useState } from "react";
import { Input, Label, RadioGroup, TextArea, TextField } from "react-aria-components";
import type { Duty, HandoverRequest, Intake, IntakeCorrection, LotRequest, OutcomeRequest } from "../data/types";
import { Button, Form, Pair } from "./basics";
import { Choice, Frame } from "./Dialogs";

const duties: Duty[] = ["everyday", "continuous", "archive", "carry"];

function MeantFor({ duty, choose }: { duty: Duty; choose: (duty: Duty) => void }) {
  return (
    <RadioGroup value={duty} onChange={(d) => choose(d as Duty)}>
      <Label>Meant for</Label>
      {duties.map((d) => (
        <Choice key={d} value={d}>
          {d}
        </Choice>
      ))}
    </RadioGroup>
  );
}

/** Asks what a drive is meant for: it is judged anew for that. */
export function DutyDialog({
  now,
  done,
  close,
  wrong,
  busy,
}: {
  now: Duty;
  done: (duty: Duty) => void;
  close: () => void;
  wrong?: string;
  busy: boolean;
}) {
  const [duty, setDuty] = useState(now);
  return (
    <Frame title="What is it meant for?" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          done(duty);
        }}
      >
        <p>The drive is judged for this. What is too much for one use is not for another; a signature ends with the verdict it was for.</p>
        <MeantFor duty={duty} choose={setDuty} />
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={busy || duty === now}>
            Judge it for {duty}
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

/** Opens a lot: what all its drives have in common. */
export function LotDialog({ done, close, wrong }: { done: (lot: Omit<LotRequest, "by">) => void; close: () => void; wrong?: string }) {
  const [ticket, setTicket] = useState("");
  const [customer, setCustomer] = useState("");
  const [expected, setExpected] = useState("");
  const [complaint, setComplaint] = useState("");
  const [duty, setDuty] = useState<Duty>("everyday");
  const [data, setData] = useState("no");
  const [check, setCheck] = useState("none");
  const count = Number(expected);
  return (
    <Frame title="Open a lot" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          done({
            ticket: ticket.trim() || undefined,
            customer: customer.trim() || undefined,
            complaint: complaint.trim() || undefined,
            expected: count > 0 ? count : undefined,
            duty,
            wanted: data !== "no",
            copied: data === "copied",
            check: check === "none" ? undefined : (check as LotRequest["check"]),
          });
        }}
      >
        <p>Every drive that is put in from now on, and is on no intake, is taken in on it as soon as it answers.</p>
        <TextField value={customer} onChange={setCustomer} maxLength={100} autoFocus>
          <Label>Customer</Label>
          <Input />
        </TextField>
        <Pair>
          <TextField value={ticket} onChange={setTicket} maxLength={100}>
            <Label>Ticket</Label>
            <Input />
          </TextField>
          <TextField value={expected} onChange={setExpected} inputMode="numeric" maxLength={5}>
            <Label>How many drives</Label>
            <Input />
          </TextField>
        </Pair>
        <TextField value={complaint} onChange={setComplaint} maxLength={500}>
          <Label>Complaint</Label>
          <TextArea rows={2} />
        </TextField>
        <MeantFor duty={duty} choose={setDuty} />
        <RadioGroup value={data} onChange={setData}>
          <Label>Their data</Label>
          <Choice value="no">not wanted</Choice>
          <Choice value="wanted">wanted, not copied: checks wait</Choice>
          <Choice value="copied">wanted, and copied</Choice>
        </RadioGroup>
        <RadioGroup value={check} onChange={setCheck}>
          <Label>Every drive of it, as soon as it is in</Label>
          <Choice value="none">as the bench does with every drive</Choice>
          <Choice value="quick">quick check</Choice>
          <Choice value="extended">extended check</Choice>
          <Choice value="whole">whole sweep</Choice>
        </RadioGroup>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit">
            Open the lot
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

type Data = "no" | "wanted" | "copied";

const dataOf = (i: Intake): Data => (i.wanted ? (i.copied ? "copied" : "wanted") : "no");

/** Puts right what was written down at an intake: what is changed here, and nothing else. */
export function CorrectionDialog({
  intake,
  done,
  close,
  wrong,
  busy,
}: {
  intake: Intake;
  done: (right: Omit<IntakeCorrection, "by">) => void;
  close: () => void;
  wrong?: string;
  busy: boolean;
}) {
  const was = { ticket: intake.ticket ?? "", customer: intake.customer ?? "", complaint: intake.complaint ?? "", data: dataOf(intake) };
  const [now, setNow] = useState(was);
  const [why, setWhy] = useState("");
  const field = (name: "ticket" | "customer" | "complaint") => ({
    value: now[name],
    onChange: (value: string) => setNow({ ...now, [name]: value }),
  });
  const unprotects = intake.at_risk && now.data === "no";
  const right: Omit<IntakeCorrection, "by"> = {};
  for (const name of ["ticket", "customer", "complaint"] as const) {
    if (now[name].trim() !== was[name]) right[name] = now[name].trim();
  }
  if (now.data !== was.data) {
    right.wanted = now.data !== "no";
    if (intake.copied) right.copied = false;
    if (unprotects) right.why = why.trim();
  }
  return (
    <Frame title={`Put intake ${intake.id} right`} close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          done(right);
        }}
      >
        <p>What stood there before stays in the audit.</p>
        <Pair>
          <TextField {...field("ticket")} maxLength={100}>
            <Label>Ticket</Label>
            <Input />
          </TextField>
          <TextField {...field("customer")} maxLength={100}>
            <Label>Customer</Label>
            <Input />
          </TextField>
        </Pair>
        <TextField {...field("complaint")} maxLength={500}>
          <Label>Complaint</Label>
          <TextArea rows={2} />
        </TextField>
        <RadioGroup value={now.data} onChange={(d) => setNow({ ...now, data: d as Data })}>
          <Label>Their data</Label>
          <Choice value="no">not wanted</Choice>
          <Choice value="wanted">wanted, not copied: checks wait</Choice>
          {intake.copied && <Choice value="copied">wanted, and copied</Choice>}
        </RadioGroup>
        {unprotects && (
          <TextField value={why} onChange={setWhy} maxLength={500}>
            <Label>Why it need not be protected any more: this takes a lead</Label>
            <Input />
          </TextField>
        )}
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={busy || Object.keys(right).length === 0 || (unprotects && !why.trim())}>
            Put it right
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

const ways: { value: HandoverRequest["goes"]; words: string }[] = [
  { value: "returned", words: "returned to its owner" },
  { value: "kept", words: "kept here" },
  { value: "scrapped", words: "scrapped" },
];

/** Ends an intake. */
export function HandoverDialog({
  intake,
  unsigned,
  done,
  close,
  wrong,
  busy,
}: {
  intake: Intake;
  unsigned: boolean;
  done: (handover: Omit<HandoverRequest, "by">) => void;
  close: () => void;
  wrong?: string;
  busy: boolean;
}) {
  const [goes, setGoes] = useState<HandoverRequest["goes"]>();
  const [data, setData] = useState("");
  const [note, setNote] = useState("");
  return (
    <Frame title={`Hand over, intake ${intake.id}`} close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          if (goes) done({ goes, data: (data || undefined) as HandoverRequest["data"], note: note.trim() || undefined });
        }}
      >
        {unsigned && <p>Nobody has signed the verdict. The statement will say so.</p>}
        <RadioGroup value={goes ?? null} onChange={(v) => setGoes(v as HandoverRequest["goes"])}>
          <Label>Where it goes</Label>
          {ways.map((w) => (
            <Choice key={w.value} value={w.value}>
              {w.words}
            </Choice>
          ))}
        </RadioGroup>
        <RadioGroup value={data} onChange={setData}>
          <Label>The state of its data</Label>
          <Choice value="">what was done to it here, as recorded</Choice>
          <Choice value="altered">altered</Choice>
        </RadioGroup>
        <TextField value={note} onChange={setNote} maxLength={500}>
          <Label>Note</Label>
          <TextArea rows={2} />
        </TextField>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!goes || busy}>
            Hand over
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

/** Notes what became of a drive: policies are judged by it. */
export function OutcomeDialog({
  today,
  done,
  close,
  wrong,
  busy,
}: {
  /** As 2027-02-01. */
  today: string;
  done: (o: Omit<OutcomeRequest, "by">) => void;
  close: () => void;
  wrong?: string;
  busy: boolean;
}) {
  const [failed, setFailed] = useState<string>();
  const [on, setOn] = useState(today);
  const [note, setNote] = useState("");
  return (
    <Frame title="What became of it" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          if (failed) done({ failed: failed === "failed", at: new Date(`${on}T12:00`).toISOString(), note: note.trim() || undefined });
        }}
      >
        <RadioGroup value={failed ?? null} onChange={setFailed}>
          <Label>It</Label>
          <Choice value="failed">failed</Choice>
          <Choice value="worked">still worked</Choice>
        </RadioGroup>
        <TextField value={on} onChange={setOn} type="date">
          <Label>On</Label>
          <Input />
        </TextField>
        <TextField value={note} onChange={setNote} maxLength={1000}>
          <Label>Note</Label>
          <TextArea rows={2} />
        </TextField>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!failed || busy}>
            Note it
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}
