import type { ReactNode } from "react";
import styled from "styled-components";
import type { Comparison, Entry } from "../data/types";
import { color, px, text } from "../theme/tokens";
import { NotAvailable, Scroll, Section, Table } from "./basics";
import { count, dateOf, dayOf, number, quantity } from "./format";
import { VerdictWord } from "./marks";
import { type Place, Plain } from "./places";

const List = styled.ul`
  & li { display: grid; grid-template-columns: 64px minmax(80px, max-content) minmax(0, 1fr); padding: 5px 0;
    border-bottom: 1px solid ${color.rule}; }
  & li > span { font-size: ${px.small}; line-height: 22px; color: ${color.ink3}; white-space: nowrap; }
  & .verdict { margin-right: 8px; }
`;

/** Everything that happened to a drive, newest first. A day is written once. */
export function Timeline({ entries }: { entries: Entry[] }) {
  return (
    <Section>
      <header>
        <h2>Everything, newest first</h2>
      </header>
      <List>
        {entries.map((e, i) => {
          const day = dayOf(e.at);
          const before = entries[i - 1];
          return (
            // biome-ignore lint/suspicious/noArrayIndexKey: the list is only ever replaced as a whole
            <li key={i}>
              <span title={dateOf(e.at)}>{before && dayOf(before.at) === day ? "" : day}</span>
              <span>{e.hours === undefined ? "" : `${number(e.hours)} h`}</span>
              <div>
                {e.grade && (
                  <span className="verdict">
                    <VerdictWord grade={e.grade} />
                  </span>
                )}
                {e.text.words}
              </div>
            </li>
          );
        })}
      </List>
    </Section>
  );
}

const Since = styled(Section)`
  min-height: 176px;
  & td, & th { padding-bottom: 1px; padding-top: 0; }
  & .says { color: ${color.ink2}; }
  & summary { ${text.small} color: ${color.ink2}; cursor: pointer; padding: 8px 0; text-decoration: underline;
    text-decoration-color: ${color.edge}; text-underline-offset: 3px; }
`;

const shown = ["°C", "B", "%"];
const value = (x: number | undefined, unit: string) =>
  x === undefined ? undefined : shown.includes(unit) ? quantity(x, unit).join(" ") : number(x);

function Named({ words, place, follow }: { words: string; place?: Place; follow?: (place: Place) => void }) {
  if (!place || !follow) return <>{words}</>;
  return (
    <Plain type="button" onClick={() => follow(place)}>
      {words}
    </Plain>
  );
}

/** The signals that moved or count, between the last visit and now. */
export function SinceLastVisit({
  comparison,
  title,
  place,
  follow,
  children,
}: {
  comparison: Comparison;
  children?: ReactNode; // a way to choose other readings
  title?: string;
  place?: (signal: string) => Place | undefined;
  follow?: (place: Place) => void;
}) {
  const { before: then, now } = comparison;
  const moved = comparison.rows.filter((r) => r.matters).slice(0, 5);
  const lost = comparison.rows.filter((r) => r.now === undefined && r.before !== undefined);
  const rows =
    moved.length > 0
      ? moved
      : comparison.rows.filter((r) => r.signal === "temperature" || r.signal === "reallocated" || r.signal === "pending");
  const days = Math.round((Date.parse(now.at) - Date.parse(then.at)) / 86_400_000);
  const ran = (now.hours ?? 0) - (then.hours ?? Number.POSITIVE_INFINITY); // below zero: not known, or its count went back
  const when = `${dateOf(then.at)}${then.hours === undefined ? "" : `, ${number(then.hours)} h`}`;
  const powered = ran >= 0 ? `, powered on for ${number(ran)} h since` : "";
  return (
    <Since>
      <header>
        <h2>{title ?? "Since the last visit"}</h2>
        <p>
          {then.seq === now.seq
            ? "this is its first reading here"
            : `${when}, reading ${then.seq} · ${count(days, "day", "days")} ago${powered}`}
          {comparison.swapped && `. Reading ${then.seq} is the earlier one: compared the other way round`}
        </p>
      </header>
      <Scroll>
        <Table>
          <thead>
            <tr>
              <th>signal</th>
              <th className="num">then</th>
              <th className="num">now</th>
              <th className="num">change</th>
              <th>what it says</th>
            </tr>
          </thead>
          <tbody>
            {[...rows, ...lost].map((r) => (
              <tr key={r.signal}>
                <td>
                  <Named words={r.words} place={place?.(r.signal)} follow={follow} />
                </td>
                <td className="num">{value(r.before, r.unit) ?? <NotAvailable />}</td>
                {r.now === undefined ? (
                  <td colSpan={3}>
                    <NotAvailable reason={r.reason} />
                  </td>
                ) : (
                  <>
                    <td className="num">
                      <b>{value(r.now, r.unit)}</b>
                    </td>
                    <td className={`num${r.change === "steady" ? " soft" : ""}`}>{r.change}</td>
                    <td className="says">{r.says}</td>
                  </>
                )}
              </tr>
            ))}
          </tbody>
        </Table>
      </Scroll>
      {children && (
        <details>
          <summary>Compare other readings</summary>
          {children}
        </details>
      )}
    </Since>
  );
}
