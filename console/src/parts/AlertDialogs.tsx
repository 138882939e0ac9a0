import { useState } from "react";
import { Input, Label, RadioGroup, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import type { AcceptRequest, Alert, Route, RouteSetting, RouteTrial, Severity } from "../data/types";
import { color, mono, text } from "../theme/tokens";
import { Button, Form, Pair } from "./basics";
import { Choice, Frame } from "./Dialogs";
import { Line } from "./SignIn";

/** Asks what was done about an alert. */
export function SettleDialog({
  alert,
  done,
  close,
  wrong,
}: {
  alert: Alert;
  done: (note: string) => void;
  close: () => void;
  wrong?: string;
}) {
  const [note, setNote] = useState("");
  return (
    <Frame title="Settle it" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          done(note.trim());
        }}
      >
        <p>
          {alert.of.words}: {alert.words.words}. It stays quiet until it comes anew, or grows beyond what was told.
        </p>
        <TextField value={note} onChange={setNote} maxLength={1000} autoFocus>
          <Label>What was done about it</Label>
          <TextArea rows={3} />
        </TextField>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit">
            Settle
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

/** Asks up to which level a flaw is known. */
export function AcceptDialog({
  serial,
  signal,
  words,
  now,
  done,
  close,
  wrong,
}: {
  serial?: string;
  signal?: string;
  words?: string;
  now?: number;
  done: (a: Omit<AcceptRequest, "by"> & { serial: string; signal: string }) => void;
  close: () => void;
  wrong?: string;
}) {
  const [drive, setDrive] = useState(serial ?? "");
  const [name, setName] = useState(signal ?? "");
  const [level, setLevel] = useState(now === undefined ? "" : String(now));
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState("");
  const x = Number(level);
  const ready = drive.trim() !== "" && name.trim() !== "" && level.trim() !== "" && x >= 0 && reason.trim() !== "";
  return (
    <Frame title="It is known" close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          if (ready)
            done({
              serial: drive.trim(),
              signal: name.trim(),
              level: x,
              reason: reason.trim(),
              until: until ? new Date(`${until}T00:00`).toISOString() : undefined,
            });
        }}
      >
        <p>Quiet up to the level, and no further: beyond it, it speaks at once. The verdict stays as it is.</p>
        {signal === undefined ? (
          <Pair>
            <Line label="Serial" value={drive} onChange={setDrive} maxLength={100} autoFocus />
            <Line label="Signal, as crc_errors" value={name} onChange={setName} maxLength={40} />
          </Pair>
        ) : (
          <p>
            <b>
              {serial}, {words ?? signal}
            </b>
          </p>
        )}
        <Pair>
          <Line label="Quiet up to" value={level} onChange={setLevel} inputMode="decimal" maxLength={20} autoFocus={signal !== undefined} />
          <Line label="Until (for good when empty)" value={until} onChange={setUntil} type="date" />
        </Pair>
        <TextField value={reason} onChange={setReason} maxLength={500}>
          <Label>Why it is known</Label>
          <Input />
        </TextField>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!ready}>
            Keep it quiet
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

const Words = styled.pre`
  font: 400 13px/18px ${mono}; white-space: pre-wrap; overflow-wrap: anywhere; background: ${color.well}; padding: 8px; max-height: 40vh;
  overflow: auto;
`;

/** What came of a trial: what was said between the two sides. */
export function TrialDialog({ name, trial, close }: { name: string; trial: RouteTrial; close: () => void }) {
  return (
    <Frame title={trial.arrived ? `${name}: it arrived` : `${name}: it did not arrive`} close={close}>
      {trial.wrong && <p role="alert">{trial.wrong}.</p>}
      {trial.words.length > 0 ? <Words tabIndex={0}>{trial.words.join("\n")}</Words> : <p>{trial.arrived ? "The console sounded." : ""}</p>}
      <footer>
        <Button $filled onPress={close} autoFocus>
          Close
        </Button>
      </footer>
    </Frame>
  );
}

const means: { id: RouteSetting["by"]; words: string; to: string; like: string }[] = [
  { id: "mail", words: "mail", to: "To", like: "imre@saltmarsh.example" },
  { id: "webhook", words: "webhook: a program is called", to: "Address", like: "https://desk.saltmarsh.example/alerts" },
  { id: "syslog", words: "syslog: a line in a log", to: "Address", like: "tls://loft.saltmarsh.example:6514" },
  { id: "console", words: "the console: sound and notice", to: "Whose (all when empty)", like: "Imre, Dov" },
];

const Small = styled.p`${text.small} color: ${color.ink2};`;

/** Makes or changes a route. */
export function RouteDialog({
  was,
  done,
  end,
  close,
  wrong,
}: {
  was?: Route;
  done: (route: RouteSetting, secret?: string) => void;
  end?: () => void;
  close: () => void;
  wrong?: string;
}) {
  const [r, set] = useState<RouteSetting>(was?.route ?? { name: "", by: "mail", least: "now" });
  const [secret, setSecret] = useState("");
  const quiet = r.quiet?.[0];
  const kind = means.find((m) => m.id === r.by);
  const change = (some: Partial<RouteSetting>) => set((before) => ({ ...before, ...some }));
  const by = (id: string) => {
    const next = id as RouteSetting["by"];
    change({ by: next, to: undefined, ...(next === "mail" ? {} : { server: undefined, user: undefined, sender: undefined }) });
  };
  return (
    <Frame title={was ? was.route.name : "Tell somebody"} close={close}>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          done(r, secret || undefined);
        }}
      >
        {!was && <Line label="Name" value={r.name} onChange={(name) => change({ name })} maxLength={60} autoFocus />}
        <RadioGroup value={r.by} onChange={by}>
          <Label>By</Label>
          {means.map((m) => (
            <Choice key={m.id} value={m.id}>
              {m.words}
            </Choice>
          ))}
        </RadioGroup>
        {kind?.to && (
          <TextField value={r.to ?? ""} onChange={(to) => change({ to: to || undefined })} maxLength={1000}>
            <Label>{kind.to}</Label>
            <Input placeholder={kind.like} />
          </TextField>
        )}
        {r.by === "mail" && (
          <>
            <TextField value={r.server ?? ""} onChange={(server) => change({ server })} maxLength={300}>
              <Label>Mail server: smtp:// with STARTTLS, smtps:// over TLS</Label>
              <Input placeholder="smtp://mail.saltmarsh.example:587" />
            </TextField>
            <Pair>
              <Line label="Comes from" value={r.sender ?? ""} onChange={(sender) => change({ sender })} maxLength={300} />
              <Line label="User there" value={r.user ?? ""} onChange={(user) => change({ user: user || undefined })} maxLength={200} />
            </Pair>
          </>
        )}
        {(r.by === "mail" || r.by === "webhook") && (
          <TextField value={secret} onChange={setSecret} type="password" autoComplete="off" maxLength={500}>
            <Label>{r.by === "mail" ? "Password there" : "What it is signed with (made when empty)"}</Label>
            <Input placeholder={was?.sealed ? "as it is" : ""} />
          </TextField>
        )}
        <RadioGroup value={r.least} onChange={(least) => change({ least: least as Severity })}>
          <Label>It tells</Label>
          <Choice value="digest">everything</Choice>
          <Choice value="now">what matters now</Choice>
          <Choice value="wake">only what may wake somebody</Choice>
        </RadioGroup>
        <Pair>
          <Line
            label="Quiet from"
            value={quiet?.from ?? ""}
            onChange={(from) => change({ quiet: from ? [{ ...quiet, from, until: quiet?.until ?? "07:30" }] : undefined })}
            type="time"
          />
          <Line
            label="until"
            value={quiet?.until ?? ""}
            onChange={(until) => change({ quiet: until ? [{ ...quiet, until, from: quiet?.from ?? "19:00" }] : undefined })}
            type="time"
          />
        </Pair>
        <Pair>
          <Line
            label="Together, daily at"
            value={r.digest ?? ""}
            onChange={(digest) => change({ digest: digest || undefined })}
            type="time"
          />
          <Line
            label="Only what nobody takes for, min"
            value={r.after_min ? String(r.after_min) : ""}
            onChange={(min) => change({ after_min: Number(min) || undefined })}
            inputMode="numeric"
            maxLength={5}
          />
        </Pair>
        <Line
          label="Time zone"
          value={r.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone}
          onChange={(zone) => change({ zone: zone || undefined })}
          maxLength={60}
        />
        <Small>Quiet hours keep everything but what may wake somebody.</Small>
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          {end && <Button onPress={end}>End it</Button>}
          {was && (
            <Button onPress={() => done({ ...r, off: r.off ? undefined : "switched off" })}>{r.off ? "Switch on" : "Switch off"}</Button>
          )}
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={r.name.trim() === ""}>
            Save
          </Button>
        </footer>
      </Form>
    </Frame>
  );
}

/** The secret of a webhook, once. */
export function MadeDialog({ secret, close }: { secret: string; close: () => void }) {
  return (
    <Frame title="It signs with this" close={close}>
      <p>Keep it: it is not shown again.</p>
      <Words tabIndex={0}>{secret}</Words>
      <footer>
        <Button $filled onPress={close} autoFocus>
          I have it
        </Button>
      </footer>
    </Frame>
  );
}
