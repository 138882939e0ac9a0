import styled from "styled-components";
import type { Compared, Grade, LotView } from "../data/types";
import { color, px, text } from "../theme/tokens";
import { Aside, Section } from "./basics";
import { number, parts, quantity } from "./format";
import { gradeColor, VerdictMark } from "./marks";

const Of = styled.div`
  display: grid; grid-template-columns: 40px 96px minmax(0, 1fr); align-items: center; min-height: 36px;
  border-bottom: 1px solid ${color.rule}; gap: 0 12px;
  &:last-child { border-bottom: 0; }
  & > b { ${text.title} text-align: right; }
  & > span { ${text.large} font-weight: 600; }
  & .tally { display: flex; flex-wrap: wrap; }
`;

/** How many tally marks say more than their number. */
const mostMarks = 40;

/** How many of each verdict. */
export function LotCounts({ counts, of }: { counts: LotView["counts"]; of: number }) {
  return (
    <Section>
      <header>
        <h2>How many of each</h2>
        <p>of {of}</p>
      </header>
      {counts.map(({ grade, drives }) => (
        <Of key={grade}>
          <b>{drives}</b>
          <span style={{ color: gradeColor[grade] }}>{grade}</span>
          <div className="tally" aria-hidden="true">
            {Array.from({ length: Math.min(drives, mostMarks) }, (_, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: marks are all alike
              <VerdictMark key={i} grade={grade as Grade} size={12} />
            ))}
          </div>
        </Of>
      ))}
    </Section>
  );
}

const Use = styled.div`
  display: grid; grid-template-columns: 88px minmax(0, 1fr) 72px 48px; align-items: center; min-height: 36px;
  border-bottom: 1px solid ${color.rule}; gap: 0 12px;
  &:last-child { border-bottom: 0; }
  & .bar { height: 8px; border: 1px solid ${color.edge}; background: ${color.well}; display: flex; }
  & .bar i { display: block; background: ${color.ink}; }
  & .bar i + i { background: repeating-linear-gradient(135deg, ${color.ink2} 0 2px, ${color.well} 2px 5px); }
  & span { text-align: right; white-space: nowrap; } & b { text-align: right; font-size: ${px.large}; }
`;

/** What share of a lot does for which duty. */
export function LotUsable({ usable }: { usable: LotView["usable"] }) {
  return (
    <Section>
      <header>
        <h2>Usable, by duty</h2>
        <p>hatched: with care; undecided is not usable</p>
      </header>
      {usable.toReversed().map((u) => (
        <Use key={u.duty}>
          <div>{u.duty}</div>
          <div className="bar" aria-hidden="true">
            <i style={{ width: `${(100 * u.does) / Math.max(1, u.of)}%` }} />
            <i style={{ width: `${(100 * u.care) / Math.max(1, u.of)}%` }} />
          </div>
          <span>
            {u.does} of {u.of}
          </span>
          <b>{Math.round((100 * u.does) / Math.max(1, u.of))} %</b>
        </Use>
      ))}
    </Section>
  );
}

const Line = styled.div`
  display: grid; grid-template-columns: 128px 176px minmax(0, 1fr); align-items: center; min-height: 36px;
  border-bottom: 1px solid ${color.rule}; gap: 0 12px; white-space: nowrap;
  &:last-child { border-bottom: 0; }
  & div { overflow: hidden; text-overflow: ellipsis; }
  & small { ${text.small} color: ${color.ink2}; overflow: hidden; text-overflow: ellipsis; }
  & .axis { stroke: ${color.edge}; } & .tick { stroke: ${color.ink3}; stroke-width: 1; } & .apart { stroke: ${color.ink}; stroke-width: 4; }
  & text { font-size: ${px.small}; font-weight: 600; fill: ${color.ink}; }
`;
const width = 176;

function said(x: number, unit: string): string {
  return unit === "B/s" ? `${number(x / 1e6)} MB/s` : quantity(x, unit).filter(Boolean).join(" ");
}

function SiblingLine({ c }: { c: Compared }) {
  const values = c.values.map((v) => v.value);
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const at = (x: number) => 4 + (high > low ? (x - low) / (high - low) : 0.5) * (width - 8);
  const apart = c.values.filter((v) => v.apart);
  const worst = apart.toSorted((a, b) => Math.abs(b.score) - Math.abs(a.score))[0];
  return (
    <Line>
      <div title={c.words}>{c.words}</div>
      <svg width={width} height="32" viewBox={`0 0 ${width} 32`} role="img" aria-label={`${c.words}: ${apart.length} stand apart`}>
        <line className="axis" x1="0" x2={width} y1="28.5" y2="28.5" />
        {c.values.map((v) => (
          <line key={v.serial} className={v.apart ? "apart" : "tick"} x1={at(v.value)} x2={at(v.value)} y1={v.apart ? 12 : 18} y2="28" />
        ))}
        {worst && (
          <text
            x={at(worst.value) > width / 2 ? at(worst.value) - 6 : at(worst.value) + 6}
            y="18"
            textAnchor={at(worst.value) > width / 2 ? "end" : "start"}
          >
            {parts(worst.serial)[1]}
          </text>
        )}
      </svg>
      <small title={`median ${said(c.median, c.unit)} of ${c.values.length}`}>{worst && said(worst.value, c.unit)}</small>
    </Line>
  );
}

/** Who stands apart among drives of one model: a line each for the four quantities in which somebody does most. */
export function SiblingLines({ compared }: { compared: Compared[] }) {
  return (
    <Section>
      <header>
        <h2>Apart from siblings</h2>
        <p>one line per drive</p>
      </header>
      {compared.slice(0, 4).map((c) => (
        <SiblingLine key={c.words + c.model} c={c} />
      ))}
      {compared.length === 0 && <Aside>Nobody: of each model, all are alike, or fewer than six are here.</Aside>}
    </Section>
  );
}
