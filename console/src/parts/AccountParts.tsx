import { useState } from "react";
import { Label, RadioGroup } from "react-aria-components";
import type { FactorOffer, SignedIn, Token, TokenRequest, TokenScope } from "../data/types";
import { Button, Scroll, Table } from "./basics";
import { Choice, Frame } from "./Dialogs";
import { clockOf, dayOf } from "./format";
import { Asked, CodeLine, Line } from "./SignIn";

const when = (time: string) => {
  const t = new Date(time);
  return `${dayOf(t)}, ${clockOf(t)}`;
};

/** Changes one's own password. */
export function PasswordForm({
  coded,
  wrong,
  busy,
  done,
  change,
}: {
  coded: boolean;
  wrong?: string;
  busy: boolean;
  done: boolean;
  change: (before: string, password: string, code?: string) => void;
}) {
  const [before, setBefore] = useState("");
  const [after, setAfter] = useState("");
  const [code, setCode] = useState("");
  return (
    <Asked
      onSubmit={(e) => {
        e.preventDefault();
        change(before, after, code.trim() || undefined);
      }}
    >
      <Line label="Present password" value={before} onChange={setBefore} type="password" maxLength={200} autoComplete="current-password" />
      <Line
        label="New password, 12 characters or more"
        value={after}
        onChange={setAfter}
        type="password"
        maxLength={200}
        autoComplete="new-password"
      />
      {coded && <CodeLine value={code} onChange={setCode} />}
      {wrong ? <p role="alert">{wrong}</p> : done && <p role="status">Changed. Your other sessions have ended.</p>}
      <Button type="submit" isDisabled={!before || [...after].length < 12 || busy}>
        Change the password
      </Button>
    </Asked>
  );
}

/** Shows a secret for a device, and wants a code of it. */
export function FactorForm({
  offer,
  wrong,
  busy,
  set,
}: {
  offer: FactorOffer;
  wrong?: string;
  busy: boolean;
  set: (code: string) => void;
}) {
  const [code, setCode] = useState("");
  return (
    <Asked
      onSubmit={(e) => {
        e.preventDefault();
        set(code.trim());
      }}
    >
      <p>Have your device read this, or type the secret into it.</p>
      <img
        src={`data:image/png;base64,${offer.picture}`}
        alt="The secret as a QR code"
        width={220}
        style={{ imageRendering: "pixelated" }}
      />
      <p>
        <code>{offer.secret.match(/.{1,4}/g)?.join(" ")}</code>
      </p>
      <Line label="The code it shows now" value={code} onChange={setCode} maxLength={6} autoComplete="one-time-code" autoFocus />
      {wrong && <p role="alert">{wrong}</p>}
      <Button $filled type="submit" isDisabled={code.trim().length !== 6 || busy}>
        Set it up
      </Button>
    </Asked>
  );
}

/** The codes for when the device is lost, shown once. */
export function RecoveryDialog({ codes, close }: { codes: string[]; close: () => void }) {
  return (
    <Frame title="For when the device is lost" close={close}>
      <p>Each of these is good once in place of a code. They are shown this once: write them down, and keep them away from the device.</p>
      <pre>{codes.join("\n")}</pre>
      <footer>
        <Button $filled onPress={close}>
          I have them
        </Button>
      </footer>
    </Frame>
  );
}

const scopes: { value: TokenScope; title: string }[] = [
  { value: "reads", title: "Reads, and changes nothing" },
  { value: "desk", title: "Desk" },
  { value: "technician", title: "Technician" },
  { value: "lead", title: "Lead" },
];

/** Asks what a token is for. */
export function TokenDialog({
  wrong,
  busy,
  make,
  close,
}: {
  wrong?: string;
  busy: boolean;
  make: (token: TokenRequest) => void;
  close: () => void;
}) {
  const [name, setName] = useState("");
  const [scope, setScope] = useState<TokenScope>("reads");
  const [days, setDays] = useState("365");
  return (
    <Frame title="A new token" close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          make({ name: name.trim(), scope, days: Number(days) || undefined });
        }}
        style={{ display: "grid", gap: 16 }}
      >
        <Line label="What it is for" value={name} onChange={setName} maxLength={100} autoFocus />
        <RadioGroup value={scope} onChange={(v) => setScope(v as TokenScope)}>
          <Label>What it may, and no more than you</Label>
          {scopes.map((s) => (
            <Choice key={s.value} value={s.value}>
              {s.title}
            </Choice>
          ))}
        </RadioGroup>
        <Line label="Days until it ends; empty: it does not" value={days} onChange={setDays} inputMode="numeric" maxLength={4} />
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={close}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!name.trim() || busy || !/^\d*$/.test(days)}>
            Make it
          </Button>
        </footer>
      </form>
    </Frame>
  );
}

/** A token's secret, shown once. */
export function SecretDialog({ token, close }: { token: Token; close: () => void }) {
  return (
    <Frame title={`Token “${token.name}”`} close={close}>
      <p>It is shown this once. Keep it in a file only you can read.</p>
      <pre>{token.secret}</pre>
      <footer>
        <Button $filled onPress={close}>
          I have it
        </Button>
      </footer>
    </Frame>
  );
}

export function TokenTable({ tokens, end }: { tokens: Token[]; end: (id: string) => void }) {
  if (tokens.length === 0) return <p>There are none.</p>;
  return (
    <Scroll>
      <Table>
        <thead>
          <tr>
            <th>for</th>
            <th>whose</th>
            <th>may</th>
            <th>made by</th>
            <th>ends</th>
            <th>last used</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {tokens.map((t) => (
            <tr key={t.id}>
              <td className="strong">{t.name}</td>
              <td>{t.person}</td>
              <td>{t.scope}</td>
              <td>{t.by}</td>
              <td>{t.expires ? `${dayOf(new Date(t.expires))} ${new Date(t.expires).getFullYear()}` : "not by itself"}</td>
              <td>{t.seen ? when(t.seen) : "never"}</td>
              <td>
                <Button aria-label={`End the token ${t.name} of ${t.person}`} onPress={() => end(t.id)}>
                  End
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Scroll>
  );
}

export function SessionTable({ sessions, end }: { sessions: SignedIn[]; end: (id: string) => void }) {
  return (
    <Scroll>
      <Table>
        <thead>
          <tr>
            <th>who</th>
            <th>from</th>
            <th>since</th>
            <th>last asked</th>
            <th>browser</th>
            <td />
          </tr>
        </thead>
        <tbody>
          {sessions.map((s) => (
            <tr key={s.id}>
              <td className="strong">{s.person}</td>
              <td className="whole">{s.address}</td>
              <td className="whole">{when(s.begun)}</td>
              <td className="whole">{when(s.seen)}</td>
              <td className="soft small">{s.agent}</td>
              <td>
                {s.own ? (
                  "this one"
                ) : (
                  <Button aria-label={`End the session of ${s.person} from ${s.address}`} onPress={() => end(s.id)}>
                    End
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Scroll>
  );
}
