import { useState } from "react";
import { Input, Label, TextArea, TextField } from "react-aria-components";
import { Link } from "react-router";
import styled from "styled-components";
import { type DraftRule, rulesOf, useDraft, useSettled, withRule } from "../data/draft";
import { usePolicy, usePolicyOrders, usePolicyTest } from "../data/queries";
import type { Grade, Policy, PolicyRule, Replay, ReplayDrive, RiskLearnt } from "../data/types";
import { Button, Section, State, Table, Wrong } from "../parts/basics";
import { dateOf, number, parts } from "../parts/format";
import { VerdictMark, VerdictWord } from "../parts/marks";
import { Plain } from "../parts/places";
import { color, medium, mono } from "../theme/tokens";
import { useActions } from "./Shell";

const Ident = styled.section`
  border-bottom: 1px solid ${color.rule}; padding: 0 24px; min-height: 64px; display: flex; align-items: center; gap: 24px; flex-wrap: wrap;
  & .version { display: flex; align-items: baseline; gap: 8px; } & .version small { font-size: 13px; line-height: 18px; color: ${color.ink3}; }
  & .version b { font-size: 36px; line-height: 44px; }
  & dl { display: flex; flex-wrap: wrap; flex: 1; min-width: 0; } & dl > div { padding: 8px 16px; border-left: 1px solid ${color.rule}; min-width: 0; }
  & dt { font-size: 13px; line-height: 18px; color: ${color.ink2}; } & dd { overflow-wrap: anywhere; }
  & .wrong { color: ${color.replace}; font-weight: 600; }
`;
const Two = styled.div`
  display: grid; grid-template-columns: minmax(0, 1fr) 392px; gap: 24px; padding: 16px 24px 40px; align-items: start;
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const RuleBox = styled.article<{ $changed: boolean }>`
  display: grid; grid-template-columns: 152px minmax(0, 1fr) 184px; gap: 0 16px; padding: 12px 0; border-bottom: 1px solid ${color.rule};
  ${({ $changed }) => $changed && `box-shadow: inset 4px 0 ${color.accent}; padding-left: 16px; margin-left: -16px; background: ${color.sheet};`}
  & .name { display: grid; align-content: start; gap: 4px; justify-items: start; } & h3 { font-size: 15px; line-height: 22px; font-weight: 600; }
  & .soft { font-size: 13px; line-height: 18px; color: ${color.ink3}; overflow-wrap: anywhere; } & .soft button { padding: 8px 0; }
  & code { display: block; font-family: ${mono}; font-size: 13px; line-height: 18px; color: ${color.ink2}; margin-top: 4px; overflow-wrap: anywhere; }
  & .was { color: ${color.ink3}; text-decoration: line-through; text-decoration-color: ${color.edge}; }
  & label { font-size: 13px; line-height: 18px; color: ${color.ink2}; }
  & textarea { width: 100%; min-height: 84px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper}; color: inherit; font-family: ${mono}; font-size: 13px; line-height: 18px; }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); gap: 8px; }
`;
const Side = styled.section`
  border: 1px solid ${color.rule}; border-top: 2px solid ${color.accent}; background: ${color.sheet}; padding: 12px 16px 16px; min-height: 656px; position: sticky; top: 16px; max-height: calc(100vh - 32px); overflow: auto; display: flex; flex-direction: column; gap: 8px;
  & h2 { font-size: 18px; line-height: 26px; } & .soft { color: ${color.ink2}; font-size: 13px; line-height: 18px; }
  & .sum { display: grid; grid-auto-flow: column; grid-auto-columns: minmax(0, 1fr); border-top: 1px solid ${color.rule}; border-bottom: 1px solid ${color.rule}; }
  & .sum div { padding: 8px 8px 8px 0; } & .sum div + div { border-left: 1px solid ${color.rule}; padding-left: 8px; }
  & .sum b { font-size: 24px; line-height: 32px; display: block; } & .sum span { font-size: 13px; line-height: 18px; color: ${color.ink2}; display: block; }
  & ul { list-style: none; margin: 0; padding: 0; } & li { display: grid; grid-template-columns: 64px auto 1fr auto; gap: 8px; align-items: center; border-bottom: 1px solid ${color.rule}; min-height: 44px; }
  & li a { text-decoration: none; font-weight: 600; letter-spacing: 0.02em; min-height: 44px; display: flex; align-items: center; } & li svg { display: inline; vertical-align: -2px; }
  & li > small { font-size: 13px; line-height: 18px; color: ${color.ink2}; }
  & footer { margin-top: auto; display: grid; gap: 8px; } & footer > .last { display: grid; grid-template-columns: 1fr 104px; gap: 12px; }
  & label { font-size: 13px; line-height: 18px; color: ${color.ink2}; display: block; margin-bottom: 4px; }
  & input { width: 100%; min-height: 44px; padding: 0 8px; border: 1px solid ${color.edge}; background: ${color.paper}; color: inherit; }
  & .wrong { color: ${color.replace}; font-weight: 600; }
  & table.said { border-collapse: collapse; font-size: 13px; line-height: 18px; }
  & table.said th { text-align: left; font-weight: 400; color: ${color.ink2}; } & table.said td, & table.said th { padding: 4px 12px 4px 0; border-bottom: 1px solid ${color.rule}; }
  & table.said :is(td, th):not(:first-child) { text-align: right; }
`;
const Whole = styled(TextField)`
  display: grid; gap: 4px; padding-top: 8px;
  & textarea { width: 100%; min-height: 560px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.sheet}; color: inherit; font-family: ${mono}; font-size: 13px; line-height: 18px; }
`;

/** A rule that somebody added in the draft's text has no words of the service yet. */
function unknown(d: DraftRule): PolicyRule {
  const effect = d.effect === "replace" || d.effect === "degrading" ? d.effect : "note";
  return {
    id: d.id,
    title: d.id,
    effect,
    when: d.when,
    says: d.says,
    words: d.says,
    customer: "",
    advice: [],
    source: "",
    applies: "",
    needs: [],
    examples: 0,
  };
}

function Effect({ effect }: { effect: string }) {
  return effect === "degrading" || effect === "replace" ? <VerdictWord grade={effect} /> : <span className="soft">a note</span>;
}

/** A rule in words beside its expression; changed, what it was beneath what it is. */
function Rule({ rule, draft, change }: { rule: PolicyRule; draft?: DraftRule; change: (when: string) => void }) {
  const [open, setOpen] = useState(false);
  const changed = draft !== undefined && (draft.when !== rule.when || draft.effect !== rule.effect || draft.says !== rule.says);
  return (
    <RuleBox $changed={changed} aria-label={rule.title}>
      <div className="name">
        <h3>{rule.title}</h3>
        <span className="soft">{rule.applies}</span>
        <Effect effect={draft?.effect ?? rule.effect} />
      </div>
      <div>
        {changed && draft.says !== rule.says && <p className="was">{rule.words}</p>}
        <p>{changed && draft.says !== rule.says ? draft.says : rule.words}</p>
        {changed && draft.when !== rule.when && <code className="was">{rule.when}</code>}
        {open ? (
          <TextField value={draft?.when ?? rule.when} onChange={change} autoFocus>
            <Label>Fires when</Label>
            <TextArea spellCheck={false} />
          </TextField>
        ) : (
          <code>{draft?.when ?? rule.when}</code>
        )}
      </div>
      <div className="soft">
        {rule.limit && <p>{rule.limit}</p>}
        <p>{rule.source}</p>
        {rule.unfit && <p>not for {rule.unfit.join(", ")}</p>}
        <Plain type="button" onClick={() => setOpen(!open)} aria-expanded={open}>
          {open ? "Done" : "Change"}
        </Plain>
      </div>
    </RuleBox>
  );
}

/** The moment of a drive's life that tells most of a draft: the first at which one of the two says replace, else the last. */
const telling = (d: ReplayDrive) => d.differs.find((x) => x.would === "replace" || x.was === "replace") ?? d.differs.at(-1);

/** What became of a drive, beside what the draft would have said of it. */
function fate(d: ReplayDrive): { words: string; score: string } {
  const x = telling(d);
  if (!d.outcome || !x) return { words: d.differs.at(-1)?.still ? "to this day" : "for a while", score: "open" };
  const days = Math.round((Date.parse(d.outcome.at) - Date.parse(x.at)) / 86_400_000);
  const later = d.outcome.failed ? "failed" : "in use";
  const words = days >= 0 ? `${later} ${number(days)} d later` : `${later} before`;
  if (days < 0 || (x.would !== "replace" && x.was !== "replace")) return { words, score: "" };
  if (x.would === "replace") return { words, score: d.outcome.failed ? "hit" : "false alarm" };
  return { words, score: d.outcome.failed ? "missed" : "one false alarm less" };
}

function Arrow({ was, would }: { was: Grade; would: Grade }) {
  return (
    <span>
      <VerdictMark grade={was} /> <span aria-hidden="true">→</span> <VerdictWord grade={would} />
    </span>
  );
}

/** How far a replay's list is shown at once. */
const shownFirst = 40;

/** How the chance of failing is calibrated on the shop's outcomes: what was said against what was seen. */
function Learnt({ risk }: { risk: RiskLearnt }) {
  const said = risk.tenths.map((t, i) => ({ ...t, from: i * 10 })).filter((t) => t.drives > 0);
  return (
    <>
      <p className="soft">Chance of failing within a year: {risk.words}</p>
      {said.length > 0 && (
        <table className="said" aria-label="What was said against what was seen">
          <thead>
            <tr>
              <th>said</th>
              <th>drives</th>
              <th>on average</th>
              <th>failed</th>
            </tr>
          </thead>
          <tbody>
            {said.map((t) => (
              <tr key={t.from}>
                <td>
                  {t.from} to {t.from + 10} %
                </td>
                <td>{t.drives.toFixed(1)}</td>
                <td>{Math.round(t.said * 100)} %</td>
                <td>{Math.round((t.failed / t.drives) * 100)} %</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function Replayed({ replay }: { replay: Replay }) {
  const [all, showAll] = useState(false);
  const change = (now: number, was: number) => (now === was ? `as policy ${replay.policy}` : `${was} by policy ${replay.policy}`);
  const shown = all ? replay.shown : replay.shown.slice(0, shownFirst);
  return (
    <>
      <p className="soft">
        {number(replay.readings)} readings of {number(replay.drives)} drives · {replay.failed} known to have failed, {replay.sound} to have
        worked
      </p>
      <div className="sum">
        <div>
          <b>{number(replay.changed)}</b>
          <span>{replay.changed === 1 ? "drive differs" : "drives differ"}</span>
        </div>
        <div>
          <b>{replay.would.hits}</b>
          <span>hits, {change(replay.would.hits, replay.was.hits)}</span>
        </div>
        <div>
          <b>{replay.would.false_alarms}</b>
          <span>false alarms, {change(replay.would.false_alarms, replay.was.false_alarms)}</span>
        </div>
        {replay.would.lead_median_h !== undefined && (
          <div>
            <b>{number(Math.round(replay.would.lead_median_h / 24))} d</b>
            <span>ahead, median</span>
          </div>
        )}
      </div>
      <Learnt risk={replay.risk} />
      {replay.changed === 0 && <p>The draft says the same of every drive, at every reading.</p>}
      <ul aria-label="Drives of which the draft says something else">
        {shown.map((d) => {
          const x = telling(d);
          if (!x) return null;
          const { words, score } = fate(d);
          return (
            <li key={d.serial + d.model}>
              <Link
                to={`/drives/${encodeURIComponent(d.serial)}?reading=${x.reading}`}
                title={`reading ${x.reading}, ${dateOf(x.at)}: ${x.would_why ?? ""}`}
              >
                {parts(d.serial)[1]}
              </Link>
              <Arrow was={x.was} would={x.would} />
              <small>
                {dateOf(x.at)}, {words}
              </small>
              <small>{score}</small>
            </li>
          );
        })}
      </ul>
      {replay.shown.length > shown.length && (
        <Button onPress={() => showAll(true)}>Show {number(replay.shown.length - shown.length)} more</Button>
      )}
      {replay.changed > replay.shown.length && <p className="soft">Of {number(replay.changed)}, these are the first.</p>}
    </>
  );
}

function Versions({ policy }: { policy: Policy }) {
  return (
    <ul aria-label="Policies that were in force">
      {policy.versions.map((v) => (
        <li key={v.version} style={{ gridTemplateColumns: "64px 1fr" }}>
          <b>{v.version}</b>
          <small>
            {dateOf(v.at)}, {v.by ? `by ${v.by}: ${v.note}` : "shipped"}
          </small>
        </li>
      ))}
    </ul>
  );
}

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
                rule={inForce.get(d.id) ?? unknown(d)}
                draft={draft ? d : undefined}
                change={(when) => write(withRule(text, d.id, "when", when))}
              />
            ))
          )}
          {!whole && (
            <p style={{ padding: "12px 0" }}>
              <b>Healthy needs</b> {policy.evidence.join("; ")}.
            </p>
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
