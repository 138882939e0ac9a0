import { useState } from "react";
import { Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";
import { color, text } from "../theme/tokens";
import { Button } from "./basics";

const Form = styled.form`
  margin: 40px 24px; padding: 16px; max-width: 488px; display: grid; gap: 16px; border-top: 2px solid ${color.ink}; background: ${color.sheet};
  & h1 { ${text.title} }
  & label { display: block; ${text.small} color: ${color.ink2}; margin-bottom: 4px; }
  & input { width: 100%; min-height: 44px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper}; }
`;

/** Asks who is there, in a shop in which people are entered. */
export function SignIn({ enter, wrong, busy }: { enter: (name: string, password: string) => void; wrong?: string; busy: boolean }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  return (
    <Form
      onSubmit={(e) => {
        e.preventDefault();
        enter(name.trim(), password);
      }}
    >
      <h1>Sign in</h1>
      <TextField value={name} onChange={setName} autoFocus maxLength={100} autoComplete="username">
        <Label>Name</Label>
        <Input />
      </TextField>
      <TextField value={password} onChange={setPassword} type="password" maxLength={200} autoComplete="current-password">
        <Label>Password</Label>
        <Input />
      </TextField>
      {wrong && <p role="alert">{wrong}</p>}
      <Button $filled type="submit" isDisabled={!name.trim() || !password || busy}>
        Sign in
      </Button>
    </Form>
  );
}
