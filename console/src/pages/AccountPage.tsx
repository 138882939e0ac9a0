import { useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { useAccount, useDemands, useSessions, useTokens } from "../data/account";
import { useSession } from "../data/queries";
import type { Token } from "../data/types";
import { FactorForm, PasswordForm, RecoveryDialog, SecretDialog, SessionTable, TokenDialog, TokenTable } from "../parts/AccountParts";
import { Button, Section, State } from "../parts/basics";
import { color, text } from "../theme/tokens";

const Head = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px;
  display: flex; align-items: baseline; gap: 16px; flex-wrap: wrap;
  & h1 { ${text.title} } & p { color: ${color.ink2}; }
`;
const Body = styled.div`
  padding: 16px 24px 40px; display: grid; gap: 32px;
  grid-template-columns: repeat(auto-fit, minmax(min(440px, 100%), 1fr)); align-items: start;
  & > .wide { grid-column: 1 / -1; }
`;

const Demanded = styled.div`
  display: grid;
  & label { display: flex; align-items: center; gap: 12px; min-height: 44px; cursor: pointer; }
  & input { width: 18px; height: 18px; }
`;

/** Somebody's own ways in: password, second factor, tokens, sessions; and, for a lead, what is demanded of all. */
export default function AccountPage() {
  const session = useSession().data;
  const tokens = useTokens();
  const sessions = useSessions();
  const demands = useDemands().data;
  const account = useAccount();
  const navigate = useNavigate();
  const [making, setMaking] = useState(false);
  const [made, setMade] = useState<Token>();
  const [codes, setCodes] = useState<string[]>();
  if (!session?.name) return <State title="Nobody is signed in">In an open shop there is nothing to prove.</State>;
  const { name, role, factor, unset } = session;
  const offer = account.offer.data;
  return (
    <>
      <title>{`${name} · Hylostat`}</title>
      <Head>
        <h1>{name}</h1>
        <p>{role}</p>
        {unset && <p role="alert">This shop demands a second factor. Set one up, then go on.</p>}
        {!unset && <Button onPress={() => navigate("/")}>To the bench</Button>}
      </Head>
      <Body>
        <Section aria-label="Password">
          <header>
            <h2>Password</h2>
          </header>
          <PasswordForm
            coded={factor ?? false}
            wrong={account.password.error?.message}
            busy={account.password.isPending}
            done={account.password.isSuccess}
            change={(before, password, code) => account.password.mutate({ before, password, code })}
          />
        </Section>
        <Section aria-label="Second factor">
          <header>
            <h2>Second factor</h2>
            <p>{factor ? "A code of your device is wanted when you sign in." : "None is set up."}</p>
          </header>
          {offer ? (
            <FactorForm
              offer={offer}
              wrong={account.factor.error?.message}
              busy={account.factor.isPending}
              set={(code) =>
                account.factor.mutate(
                  { secret: offer.secret, code },
                  {
                    onSuccess: (done) => {
                      setCodes(done.codes);
                      account.offer.reset();
                    },
                  },
                )
              }
            />
          ) : (
            <p style={{ display: "flex", gap: 12, paddingTop: 8 }}>
              <Button $filled={unset} onPress={() => account.offer.mutate()}>
                {factor ? "Another device" : "Set one up"}
              </Button>
              {factor && <Button onPress={() => account.dropFactor.mutate(name)}>Take it away</Button>}
            </p>
          )}
        </Section>
        {role === "lead" && demands && (
          <Section aria-label="What the shop demands">
            <header>
              <h2>What the shop demands</h2>
            </header>
            <Demanded>
              <label>
                <input
                  type="checkbox"
                  checked={demands.second_factor}
                  onChange={(e) => account.demand.mutate({ ...demands, second_factor: e.target.checked })}
                />{" "}
                a second factor of whoever signs in
              </label>
              <label>
                <input
                  type="checkbox"
                  checked={demands.second_person}
                  onChange={(e) => account.demand.mutate({ ...demands, second_person: e.target.checked })}
                />{" "}
                a second person who orders an overwrite, too
              </label>
            </Demanded>
            {account.demand.error && <p role="alert">{account.demand.error.message}</p>}
          </Section>
        )}
        {!unset && (
          <>
            <Section className="wide" aria-label="Tokens">
              <header>
                <h2>Tokens</h2>
                <p>By these, programs ask in your name.</p>
                <Button onPress={() => setMaking(true)}>A new one</Button>
              </header>
              {tokens.data && <TokenTable tokens={tokens.data} end={(id) => account.endToken.mutate(id)} />}
            </Section>
            <Section className="wide" aria-label="Sessions">
              <header>
                <h2>Sessions</h2>
                <p>Who is signed in, from where.</p>
              </header>
              {sessions.data && <SessionTable sessions={sessions.data} end={(id) => account.endSession.mutate(id)} />}
            </Section>
          </>
        )}
      </Body>
      {making && (
        <TokenDialog
          wrong={account.addToken.error?.message}
          busy={account.addToken.isPending}
          close={() => setMaking(false)}
          make={(token) =>
            account.addToken.mutate(token, {
              onSuccess: (one) => {
                setMaking(false);
                setMade(one);
              },
            })
          }
        />
      )}
      {made && <SecretDialog token={made} close={() => setMade(undefined)} />}
      {codes && <RecoveryDialog codes={codes} close={() => setCodes(undefined)} />}
    </>
  );
}
