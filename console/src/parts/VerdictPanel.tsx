import { Link } from "react-router";
import styled from "styled-components";
import type { Finding, LastVisit, Risk, Verdict } from "../data/types";
import { color, medium, px, text } from "../theme/tokens";
import { Aside, Button, Tape } from "./basics";
import { left } from "./format";
import { gradeColor, gradeTint, VerdictMark } from "./marks";
import { type Place, Plain } from "./places";

const Panel = styled.section<{ $ink: string; $tint: string }>`
  --v: ${({ $ink }) => $ink};
  background: ${({ $tint }) => $tint}; box-shadow: inset 0 2px var(--v); padding: 16px; min-height: 656px; display: flex;
  flex-direction: column;
  & > header { display: grid; grid-template-columns: 56px 1fr; gap: 0 16px; align-items: center; margin-bottom: 12px; }
  & h1 { ${text.display} color: var(--v); letter-spacing: -0.01em; }
  & .small { ${text.small} color: ${color.ink2}; }
  & .ruled { border-top: 1px solid var(--v); padding: 8px 0; }
  & dl { display: grid; grid-template-columns: 80px 1fr; border-top: 1px solid var(--v); border-bottom: 1px solid var(--v);
    padding: 8px 0; }
  & dt { color: ${color.ink2}; }
  & dd { font-weight: 600; }
  & ol.advice { border-bottom: 1px solid var(--v); padding: 8px 0; counter-reset: a; }
  & ol.advice li { display: grid; grid-template-columns: 24px 1fr; counter-increment: a; }
  & ol.advice li::before { content: counter(a); font-weight: 600; color: var(--v); }
  & footer { margin: auto -16px -16px; padding: 8px 16px 16px; position: sticky; bottom: 0; background: ${({ $tint }) => $tint};
    display: grid; grid-template-columns: 1fr 104px; gap: 12px; }
  & .wide { grid-column: 1 / -1; }
  @media (max-width: ${medium}px) { min-height: 0; }
`;

const Found = styled.article`
  padding: 8px 0; display: grid; grid-template-columns: 24px minmax(0, 1fr);
  & + & { border-top: 1px solid ${color.rule}; }
  & > b { font-size: ${px.large}; line-height: 22px; color: var(--v); }
  & h2 { line-height: 22px; }
  & > p { grid-column: 2; ${text.small} color: ${color.ink2}; }
  & > p button { display: inline; text-align: left; white-space: normal; overflow-wrap: anywhere; min-height: 0; padding: 0;
    font-size: inherit; line-height: inherit; }
  & .margin { grid-column: 2; display: grid; grid-template-columns: 1fr auto; align-items: center; gap: 16px; margin-top: 4px;
    ${text.small} font-weight: 600; }
  & .margin span { min-width: 88px; text-align: right; }
`;

/** What a finding rests on: the bytes of a reading, or the sweep of a run. */
function Rests({ finding, follow }: { finding: Finding; follow?: (place: Place) => void }) {
  const sources = finding.rests.filter((r, i, all) => r.source && all.findIndex((o) => o.source === r.source) === i);
  if (sources.length === 0) return null;
  return (
    <p>
      Reading {finding.reading}:{" "}
      {sources.map((r, i) => (
        <span key={r.source}>
          {i > 0 && " "}
          {r.run ? (
            <Link to={`/runs/${r.run}`}>{r.source}</Link>
          ) : r.page && follow ? (
            <Plain
              type="button"
              title={`${r.words}: see its bytes`}
              onClick={() => follow({ page: r.page ?? "", offset: r.offset ?? 0, length: r.length ?? 0 })}
            >
              {r.source}
            </Plain>
          ) : (
            r.source
          )}
        </span>
      ))}
    </p>
  );
}

function FindingRow({ finding, n, ink, follow }: { finding: Finding; n: number; ink: string; follow?: (place: Place) => void }) {
  return (
    <Found>
      <b>{n}</b>
      <h2>{finding.sentence}</h2>
      {(finding.detail || finding.effect === "note") && (
        <p>{[finding.effect === "note" ? "A note, changes no grade" : "", finding.detail].filter(Boolean).join(". ")}</p>
      )}
      {finding.known && (
        <p>
          <b>It is {finding.known}.</b>
        </p>
      )}
      <Rests finding={finding} follow={follow} />
      {finding.margin && (
        <div className="margin">
          <Tape share={finding.margin.of > 0 ? finding.margin.used / finding.margin.of : 1} ink={ink} />
          <span>{finding.margin.words}</span>
        </div>
      )}
    </Found>
  );
}

const Factors = styled.details`
  & > summary { cursor: pointer; ${text.body} color: ${color.ink}; min-height: 24px; }
  & > summary:focus-visible { outline: 2px solid ${color.ink}; outline-offset: 2px; }
  & table { width: 100%; border-collapse: collapse; margin-top: 4px; }
  & td { padding: 4px 0; vertical-align: top; border-top: 1px solid ${color.rule}; }
  & td:first-child { width: 64px; padding-right: 12px; text-align: right; font-weight: 600; white-space: nowrap; color: ${color.ink}; }
  & td span { display: block; color: ${color.ink3}; }
`;

/** The chance of failing within a year, with what makes it: a rough number beside the rules, for technicians. */
function Chance({ risk }: { risk: Risk }) {
  const rows: [string, string, string][] = [
    [`${(risk.base * 100).toFixed(1)} %`, "a year, a drive of its kind and age that shows nothing", ""],
    ...risk.factors.map((f): [string, string, string] => [`× ${f.ratio.toFixed(2)}`, f.words, f.source]),
  ];
  return (
    <Factors className="ruled small">
      <summary>
        To fail within a year: <b>{risk.words}</b>
      </summary>
      <table>
        <tbody>
          {rows.map(([size, words, source]) => (
            <tr key={words}>
              <td>{size}</td>
              <td>
                {words}
                {source && <span>{source}</span>}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        {risk.calibrated > 0
          ? `Calibrated on ${risk.calibrated} outcomes of this shop.`
          : "By published rates only: too few outcomes of this shop."}
      </p>
    </Factors>
  );
}

const fits = [
  ["does", "Does for"],
  ["care", "With care"],
  ["not", "Not for"],
] as const;

/** The rules that could not be judged, under their reasons: one is often the reason of several. */
export function notJudged(verdict: Verdict): string {
  const titles = new Map<string, string[]>();
  for (const u of verdict.unjudged) titles.set(u.reason, [...(titles.get(u.reason) ?? []), u.title]);
  return [...titles].map(([reason, rules]) => ` ${rules.length} not judged, ${reason}: ${rules.join("; ")}.`).join("");
}

/** The answer about a drive with its reasons, and the place where a person signs. */
export function VerdictPanel({
  verdict,
  visit,
  sign,
  overrule,
  mean,
  busy,
  follow,
}: {
  verdict: Verdict;
  visit?: LastVisit; // of a drive that came back
  sign: () => void;
  overrule: () => void;
  mean?: () => void; // asks for what else it is meant
  busy: boolean;
  follow?: (place: Place) => void;
}) {
  const ink = gradeColor[verdict.grade];
  const signed = verdict.signed;
  const findings = [...verdict.findings, ...verdict.notes];
  const unjudged = verdict.duties.filter((d) => d.fitness === "unjudged").map((d) => d.duty);
  const byWhat = signed ? (signed.overruled ? `overruled with ${signed.grade} by ${signed.by}` : `signed by ${signed.by}`) : "not signed";
  return (
    <Panel $ink={ink} $tint={gradeTint[verdict.grade]} aria-label="Verdict">
      <header>
        <VerdictMark grade={verdict.grade} size={56} />
        <div>
          <h1>{verdict.grade}</h1>
          <p className="small">
            for{" "}
            {mean ? (
              <Plain type="button" onClick={mean} aria-label={`Meant for ${verdict.duty}: change`}>
                {verdict.duty}
              </Plain>
            ) : (
              verdict.duty
            )}{" "}
            · policy {verdict.policy} · {byWhat}
          </p>
        </div>
      </header>
      {visit && (
        <div className="ruled small">
          <p>
            <b>Was here</b> {visit.text.words}.
          </p>
          <p>
            <b>Since then:</b> {visit.since.map((s) => s.words).join("; ") || "no counter that matters moved"}.
          </p>
        </div>
      )}
      {signed?.reason && (
        <p className="ruled">
          {signed.by}: “{signed.reason}”
        </p>
      )}
      <dl>
        {fits.map(([kind, title]) => {
          const words = verdict.duties.filter((d) => d.fitness === kind).map((d) => d.words);
          return words.length === 0 ? null : [<dt key={`${kind}t`}>{title}</dt>, <dd key={kind}>{words.join(", ")}</dd>];
        })}
        {unjudged.length > 0 && [<dt key="ut">Not judged</dt>, <dd key="u">{unjudged.join(", ")}</dd>]}
      </dl>
      {verdict.advice.length > 0 && (
        <ol className="advice">
          {verdict.advice.map((a) => (
            <li key={a}>
              <span>{a}</span>
            </li>
          ))}
        </ol>
      )}
      {findings.length > 0 ? (
        <div>
          {findings.map((f, i) => (
            <FindingRow key={f.rule} finding={f} n={i + 1} ink={ink} follow={follow} />
          ))}
        </div>
      ) : (
        <Aside>{verdict.grade === "undecided" ? "No findings, but too little is known." : "No findings."}</Aside>
      )}
      {verdict.missing.length > 0 && verdict.grade !== "replace" && (
        <div className="ruled small">
          {verdict.missing.map((m) => (
            <p key={m.id}>
              <b>Missing:</b> {m.what}. {m.run === "" ? "" : `Get it by ${m.run}, about ${left(m.minutes * 60)}.`}
            </p>
          ))}
        </div>
      )}
      <p className="ruled small">
        {verdict.quiet} rules did not fire.
        {notJudged(verdict)}
      </p>
      {verdict.risk && <Chance risk={verdict.risk} />}
      {!signed && (
        <footer>
          {verdict.grade === "undecided" ? (
            <Button className="wide" onPress={overrule} isDisabled={busy}>
              Overrule
            </Button>
          ) : (
            <>
              <Button $filled onPress={sign} isDisabled={busy}>
                Sign: {verdict.grade}
              </Button>
              <Button onPress={overrule} isDisabled={busy}>
                Overrule
              </Button>
            </>
          )}
        </footer>
      )}
    </Panel>
  );
}
