import { useState } from "react";
import { Input, Label, TextArea, TextField } from "react-aria-components";
import styled from "styled-components";
import { type DraftRule, rulesOf, useDraft, useSettled, withRule } from "../data/draft";
import { usePolicyOrders } from "../data/orders";
import { usePolicy, usePolicyTest } from "../data/queries";
import type { Policy } from "../data/types";
import { Aside, Button, Section, State, Table, Wrong } from "../parts/basics";
import { dateOf } from "../parts/format";
import { Replayed, Rule, unknownRule, Versions } from "../parts/PolicyParts";
import { color, medium, mono, text } from "../theme/tokens";
import { useActions } from "./Shell";

const Ident = styled.section`
  border-bottom: 1px solid ${color.rule}; padding: 0 24px; min-height: 64px; display: flex; align-items: center; gap: 24px; flex-wrap: wrap;
  & .version { display: flex; align-items: baseline; gap: 8px; } & .version small { ${text.small} color: ${color.ink3}; }
  & .version b { ${text.display} }
  & dl { display: flex; flex-wrap: wrap; flex: 1; min-width: 0; }
  & dl > div { padding: 8px 16px; border-left: 1px solid ${color.rule}; min-width: 0; }
  & dt { ${text.small} color: ${color.ink2}; } & dd { overflow-wrap: anywhere; }
  & .wrong { color: ${color.replace}; font-weight: 600; }
`;
const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 392px; gap: 24px; padding: 16px 24px 40px; align-items: start;
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const Side = styled.section`
  border: 1px solid ${color.rule}; border-top: 2px solid ${color.accent}; background: ${color.sheet}; padding: 12px 16px 16px;
  min-height: 656px; position: sticky; top: 16px; max-height: calc(100vh - 32px); overflow: auto; display: flex;
  flex-direction: column; gap: 8px;
  & h2 { ${text.large} } & .soft { color: ${color.ink2}; ${text.small} }
  & .sum { display: grid; grid-auto-flow: column; grid-auto-columns: minmax(0, 1fr); border-top: 1px solid ${color.rule};
    border-bottom: 1px solid ${color.rule}; }
  & .sum div { padding: 8px 8px 8px 0; } & .sum div + div { border-left: 1px solid ${color.rule}; padding-left: 8px; }
  & .sum b { ${text.title} display: block; } & .sum span { ${text.small} color: ${color.ink2}; display: block; }
  & ul { list-style: none; margin: 0; padding: 0; }
  & li { display: grid; grid-template-columns: 64px auto 1fr auto; gap: 8px; align-items: center;
    border-bottom: 1px solid ${color.rule}; min-height: 44px; }
  & li a { text-decoration: none; font-weight: 600; letter-spacing: 0.02em; min-height: 44px; display: flex; align-items: center; }
  & li svg { display: inline; vertical-align: -2px; }
  & li.version { grid-template-columns: 64px 1fr; }
  & li > small { ${text.small} color: ${color.ink2}; }
  & footer { margin-top: auto; display: grid; gap: 8px; } & footer > .last { display: grid; grid-template-columns: 1fr 104px; gap: 12px; }
  & label { ${text.small} color: ${color.ink2}; display: block; margin-bottom: 4px; }
  & input { width: 100%; min-height: 44px; padding: 0 8px; border: 1px solid ${color.edge}; background: ${color.paper}; color: inherit; }
  & .wrong { color: ${color.replace}; font-weight: 600; }
  & table.said { border-collapse: collapse; ${text.small} }
  & table.said th { text-align: left; font-weight: 400; color: ${color.ink2}; }
  & table.said td, & table.said th { padding: 4px 12px 4px 0; border-bottom: 1px solid ${color.rule}; }
  & table.said :is(td, th):not(:first-child) { text-align: right; }
`;
const Whole = styled(TextField)`
  display: grid; gap: 4px; padding-top: 8px;
  & textarea { width: 100%; min-height: 560px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.sheet};
    color: inherit; font-family: ${mono}; ${text.small} }
`;

/** The shop's rules: in words beside their expressions, a draft of them, and what that would have said of everything recorded. */
export default function PolicyPage() {
  const policy = usePolicy();
  if (policy.isError && !policy.data) return <Wrong error={policy.error} retry={() => policy.refetch()} />;
  if (!policy.data) return <State title="Fetching the policy" />;
  return <Known policy={policy.data} />;
}

function Known({ policy }: { policy: Policy }) {
  const [draft, keep] = useDraft();
  const [whole, setWhole] = useState(false);
  const [note, setNote] = useState("");
  const { asPerson } = useActions();
  const orders = usePolicyOrders();
  const text = draft?.text ?? policy.text;
  const settled = useSettled(text, 400);
  const test = usePolicyTest(settled);
  const read = rulesOf(text);
  const inForce = new Map(policy.rules.map((r) => [r.id, r]));
  const rules = draft ? read.rules : policy.rules.map((r) => ({ id: r.id, effect: r.effect, when: r.when, says: r.says }));
  const differs = (d: DraftRule) => {
    const r = inForce.get(d.id);
    return !r || r.when !== d.when || r.effect !== d.effect || r.says !== d.says;
  };
  const changed = draft ? read.rules.filter(differs).length + policy.rules.filter((r) => !read.rules.some((d) => d.id === r.id)).length : 0;
  const next = (policy.versions[0]?.version ?? policy.version) + 1;
  const wrong = read.wrong ?? (test.isError ? test.error.message : undefined);
  const failed = test.data?.trials.find((t) => !t.passed);
  const write = (changedText: string) => {
    orders.replay.reset();
    keep(changedText === policy.text ? undefined : { from: draft?.from ?? policy.version, text: changedText });
  };
  const discard = () => {
    orders.replay.reset();
    orders.publish.reset();
    keep(undefined);
  };
  return (
    <>
      <title>Policy · Hylostat</title>
      <Ident aria-label="Policy">
        <h1 className="version">
          <small>{draft ? "draft" : "policy"}</small>
          <b>{draft ? next : policy.version}</b>
        </h1>
        <dl>
          <div>
            <dt>{draft ? `From policy ${draft.from}` : "In force since"}</dt>
            <dd>
              {draft && draft.from !== policy.version
                ? `policy ${policy.version} is in force by now`
                : dateOf(policy.versions[0]?.at ?? "")}
            </dd>
          </div>
          <div>
            <dt>Rules</dt>
            <dd>{draft ? `${changed} of ${rules.length} changed` : policy.rules.length}</dd>
          </div>
          <div>
            <dt>Its own examples</dt>
            <dd>
              <span className={wrong || failed ? "wrong" : undefined} role="status">
                {wrong ??
                  (failed
                    ? `rule ${failed.rule} does not answer its example ${failed.example}`
                    : test.data
                      ? `${test.data.trials.length} of ${test.data.trials.length} hold`
                      : "…")}
              </span>
            </dd>
          </div>
        </dl>
        <Button onPress={() => setWhole(!whole)}>{whole ? "Rules in words" : "Edit the text"}</Button>
      </Ident>
      <Two>
        <Section>
          <header>
            <h2>{whole ? "The text" : "Rules"}</h2>
            <p>{whole ? "YAML, with the expressions in CEL" : "in words, with the expression beneath and the source of each limit"}</p>
          </header>
          {whole ? (
            <Whole value={text} onChange={write}>
              <Label>Text of the policy</Label>
              <TextArea spellCheck={false} />
            </Whole>
          ) : (
            rules.map((d) => (
              <Rule
                key={d.id}
                rule={inForce.get(d.id) ?? unknownRule(d)}
                draft={draft ? d : undefined}
                change={(when) => write(withRule(text, d.id, "when", when))}
              />
            ))
          )}
          {!whole && (
            <Aside>
              <b>Healthy needs</b> {policy.evidence.join("; ")}.
            </Aside>
          )}
          {!whole && policy.limits.length > 0 && (
            <Table aria-label="Limits">
              <tbody>
                {policy.limits.map((l) => (
                  <tr key={l.name} title={l.source}>
                    <td>limit.{l.name}</td>
                    <td>{l.words}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
          )}
        </Section>
        <Side aria-label={draft ? "Replay" : "Versions"}>
          <h2>{draft ? `Replay of draft ${next}` : "In force until now"}</h2>
          {!draft && (
            <>
              <p className="soft">Change a rule to begin a draft. A draft changes nothing until it is published.</p>
              <Versions policy={policy} />
            </>
          )}
          {draft && !orders.replay.data && (
            <p className="soft">What would the draft have said of every drive, at every reading, on what was known then?</p>
          )}
          {orders.replay.isError && <p className="wrong">{orders.replay.error.message}</p>}
          {draft && orders.replay.data && <Replayed replay={orders.replay.data} />}
          {draft && (
            <footer>
              <Button
                $filled={!orders.replay.data}
                onPress={() => orders.replay.mutate(text)}
                isDisabled={orders.replay.isPending || wrong !== undefined}
              >
                {orders.replay.isPending ? "Replaying …" : orders.replay.data ? "Replay again" : "Replay the draft"}
              </Button>
              <TextField value={note} onChange={setNote} maxLength={1000}>
                <Label>Note for the shop: what changes, and why</Label>
                <Input />
              </TextField>
              {orders.publish.isError && <p className="wrong">{orders.publish.error.message}</p>}
              <div className="last">
                <Button
                  $filled={orders.replay.data !== undefined}
                  isDisabled={!note.trim() || wrong !== undefined || failed !== undefined || orders.publish.isPending}
                  onPress={() =>
                    asPerson((by) =>
                      orders.publish.mutate(
                        { text, note: note.trim(), by },
                        {
                          onSuccess: () => {
                            discard();
                            setNote("");
                          },
                        },
                      ),
                    )
                  }
                >
                  Publish as policy {next}
                </Button>
                <Button onPress={discard}>Discard</Button>
              </div>
            </footer>
          )}
        </Side>
      </Two>
    </>
  );
}
