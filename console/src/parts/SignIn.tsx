import { type ComponentProps, useState } from "react";
import { Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";
import { color, text } from "../theme/tokens";
import { Button } from "./basics";
import { Frame } from "./Dialogs";

export const Asked = styled.form`
  padding: 16px; max-width: 488px; display: grid; gap: 16px; background: ${color.sheet};
  & h1, & h2 { ${text.title} }
  & label { display: block; ${text.small} color: ${color.ink2}; margin-bottom: 4px; }
  & input { width: 100%; min-height: 44px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper}; }
`;
const Alone = styled(Asked)`margin: 40px 24px; border-top: 2px solid ${color.ink};`;

/** One line that somebody fills in. */
export function Line({ label, ...field }: { label: string } & Omit<ComponentProps<typeof TextField>, "children">) {
  return (
    <TextField {...field}>
      <Label>{label}</Label>
      <Input />
    </TextField>
  );
}

/** The code of a second factor. */
export function CodeLine({ value, onChange, autoFocus }: { value: string; onChange: (code: string) => void; autoFocus?: boolean }) {
  return (
    <Line
      label="Code of your device, or a recovery code"
      value={value}
      onChange={onChange}
      autoFocus={autoFocus}
      maxLength={20}
      autoComplete="one-time-code"
    />
  );
}

/** Asks who is there, in a shop in which people are entered; for the code of a second factor, too, once it is wanted. */
export function SignIn({
  enter,
  wrong,
  busy,
  coded,
}: {
  enter: (name: string, password: string, code?: string) => void;
  wrong?: string;
  busy: boolean;
  coded?: boolean;
}) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  return (
    <Alone
      onSubmit={(e) => {
        e.preventDefault();
        enter(name.trim(), password, code.trim() || undefined);
      }}
    >
      <h1>Sign in</h1>
      <Line label="Name" value={name} onChange={setName} autoFocus maxLength={100} autoComplete="username" />
      <Line label="Password" value={password} onChange={setPassword} type="password" maxLength={200} autoComplete="current-password" />
      {coded && <CodeLine value={code} onChange={setCode} autoFocus />}
      {wrong && <p role="alert">{wrong}</p>}
      <Button $filled type="submit" isDisabled={!name.trim() || !password || busy}>
        Sign in
      </Button>
    </Alone>
  );
}

/** Asks a person to say again who they are, before what is hard to undo. */
export function ProveDialog({
  name,
  coded,
  prove,
  done,
}: {
  name: string;
  coded: boolean;
  prove: (password: string, code?: string) => Promise<unknown>;
  done: (proved: boolean) => void;
}) {
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  return (
    <Frame title={`Is it you, ${name}?`} close={() => done(false)}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          setBusy(true);
          prove(password, code.trim() || undefined)
            .then(() => done(true))
            .catch((error: Error) => setWrong(error.message))
            .finally(() => setBusy(false));
        }}
        style={{ display: "grid", gap: 16 }}
      >
        <p>This is hard to undo, and it is some time since you gave your password.</p>
        <Line
          label="Password"
          value={password}
          onChange={setPassword}
          type="password"
          maxLength={200}
          autoFocus
          autoComplete="current-password"
        />
        {coded && <CodeLine value={code} onChange={setCode} />}
        {wrong && <p role="alert">{wrong}</p>}
        <footer>
          <Button onPress={() => done(false)}>Cancel</Button>
          <Button $filled type="submit" isDisabled={!password || busy}>
            Go on
          </Button>
        </footer>
      </form>
    </Frame>
  );
}
