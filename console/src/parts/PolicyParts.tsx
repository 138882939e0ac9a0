import { useState } from "react";
import { Label, TextArea, TextField } from "react-aria-components";
import { Link } from "react-router";
import styled from "styled-components";
import type { DraftRule } from "../data/draft";
import type { Grade, Policy, PolicyRule, Replay, ReplayDrive, RiskLearnt } from "../data/types";
import { color, medium, mono, text } from "../theme/tokens";
import { Button } from "./basics";
import { count, dateOf, number, parts } from "./format";
import { VerdictMark, VerdictWord } from "./marks";
import { Plain } from "./places";

const RuleBox = styled.article<{ $changed: boolean }>`
  display: grid; grid-template-columns: 152px minmax(0, 1fr) 184px; gap: 0 16px; padding: 12px 0; border-bottom: 1px solid ${color.rule};
  ${({ $changed }) =>
    $changed &&
    `
    box-shadow: inset 4px 0 ${color.accent}; padding-left: 16px; margin-left: -16px; background: ${color.sheet};`}
  & .name { display: grid; align-content: start; gap: 4px; justify-items: start; } & h3 { ${text.body} font-weight: 600; }
  & .soft { ${text.small} color: ${color.ink3}; overflow-wrap: anywhere; } & .soft button { padding: 8px 0; }
  & code { display: block; font-family: ${mono}; ${text.small} color: ${color.ink2}; margin-top: 4px; overflow-wrap: anywhere; }
  & .was { color: ${color.ink3}; text-decoration: line-through; text-decoration-color: ${color.edge}; }
  & label { ${text.small} color: ${color.ink2}; }
  & textarea { width: 100%; min-height: 84px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper};
    color: inherit; font-family: ${mono}; ${text.small} }
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); gap: 8px; }
`;

/** A rule that somebody added in the draft's text has no words of the service yet. */
export function unknownRule(d: DraftRule): PolicyRule {
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
export function Rule({ rule, draft, change }: { rule: PolicyRule; draft?: DraftRule; change: (when: string) => void }) {
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
export function Learnt({ risk }: { risk: RiskLearnt }) {
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

/** How many alerts a draft would have told of the drives under watch, beside the policy in force. */
function AlertsTold({ replay }: { replay: Replay }) {
  const sum = (of: "was" | "would", kind?: string) =>
    replay.alerts.reduce((n, a) => n + (kind === undefined || a.kind === kind ? a[of] : 0), 0);
  const kinds = [...new Set(replay.alerts.map((a) => a.kind))];
  return (
    <p>
      Of the {count(replay.watched, "drive", "drives")} under watch it would have told <b>{count(sum("would"), "alert", "alerts")}</b>{" "}
      instead of {number(sum("was"))}
      {kinds.length > 0 && `: ${kinds.map((k) => `${k.replaceAll("_", " ")} ${sum("would", k)} for ${sum("was", k)}`).join(", ")}`}.
    </p>
  );
}

export function Replayed({ replay }: { replay: Replay }) {
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
      {replay.watched > 0 && <AlertsTold replay={replay} />}
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

export function Versions({ policy }: { policy: Policy }) {
  return (
    <ul aria-label="Policies that were in force">
      {policy.versions.map((v) => (
        <li key={v.version} className="version">
          <b>{v.version}</b>
          <small>
            {dateOf(v.at)}, {v.by ? `by ${v.by}: ${v.note}` : "shipped"}
          </small>
        </li>
      ))}
    </ul>
  );
}
