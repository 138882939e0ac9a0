import type { ReactNode } from "react";
import styled from "styled-components";
import type { Rework, Step, Sweep, SweepStanding } from "../data/types";
import { color, text } from "../theme/tokens";
import { Scroll, Section, Table } from "./basics";
import { type Cells, spots } from "./cells";
import { clockOf, number, size, spot } from "./format";

const Places = styled.div`padding: 40px 24px;`;
const Steps = styled.ol`
  display: flex; flex-wrap: wrap; gap: 12px;
  & li { border-top: 2px solid ${color.ink}; padding-top: 6px; min-height: 52px; min-width: 144px; max-width: 260px; position: relative; }
  & li.now { border-top-color: transparent; min-width: 200px; }
  & li.now i { position: absolute; left: 0; top: -5px; height: 8px; background: ${color.ink}; }
  & li.now::after { content: ""; position: absolute; inset: -5px 0 auto 0; height: 8px; border: 1px solid ${color.edge}; }
  & li.todo, & li.skipped { border-top: 1px dashed ${color.edge}; padding-top: 7px; color: ${color.ink3}; }
  & li span { display: block; ${text.small} color: ${color.ink2}; }
`;
function StepItem({ step, n }: { step: Step; n: number }) {
  const now = step.state === "begun" || step.state === "unknown";
  const state = now ? "now" : step.state === "pending" ? "todo" : step.state;
  const sweep = step.sweep;
  const percent = sweep ? Math.floor(100 * sweep.share) : step.percent;
  const words = now
    ? sweep
      ? `${percent} %, ${size(sweep.share * sweep.sectors * sweep.logical, 2)} of ${size(sweep.sectors * sweep.logical)}`
      : `${percent} %`
    : (step.note?.words ?? (step.ended ? clockOf(step.ended) : ""));
  return (
    <li className={state}>
      {now && <i style={{ width: `${percent}%` }} />}
      <b>
        {n}&ensp;{step.title}
      </b>
      <span>{words}</span>
    </li>
  );
}

/** A run's steps, each with what came of it. */
export function StepList({ steps }: { steps: Step[] }) {
  return (
    <Steps>
      {steps.map((s, i) => (
        <StepItem key={s.kind} step={s} n={i + 1} />
      ))}
    </Steps>
  );
}

/** One place, for the table. */
interface Row {
  key: string;
  where: string;
  lba: string;
  what: string;
  evidence: string;
}

/** The places of a sweep, in the order of the surface: exact ones when it has ended, the ribbon's cells while it goes on. */
export function placesOf(sweep: Sweep | null | undefined, cells: Cells | undefined, s: SweepStanding, ended: boolean): Row[] {
  const where = (lba: number) => spot(lba * s.logical, s.sectors * s.logical, 1);
  if (ended && sweep) {
    const ranges = sweep.ranges.map((r) => ({
      at: r.lba,
      row: {
        key: `r${r.lba}`,
        where: where(r.lba),
        lba: r.sectors > 1 ? `${r.lba} to ${r.lba + r.sectors - 1}` : String(r.lba),
        what: r.unreadable ? `${number(r.physical)} ${r.physical === 1 ? "sector" : "sectors"} unreadable` : r.cause,
        evidence: r.unreadable ? `${r.cause}; narrowed down` : "",
      },
    }));
    const slow = sweep.slow.map((p) => ({
      at: p.lba,
      row: {
        key: `s${p.lba}`,
        where: where(p.lba),
        lba: `${p.lba} to ${p.lba + p.sectors - 1}`,
        what: `slow, class ${p.class}`,
        evidence: p.words.words,
      },
    }));
    return [...ranges, ...slow].sort((a, b) => a.at - b.at).map((x) => x.row);
  }
  if (!cells) return [];
  const perCell = s.sectors / cells.count;
  return spots(cells).map((p) => {
    const first = Math.ceil(p.from * perCell);
    return {
      key: `c${p.from}`,
      where: where(first),
      lba: `from ${first}`,
      what:
        p.unread > 0
          ? `${number(p.unread)} unreadable`
          : `${p.to - p.from === 1 ? "slow" : `${number(p.to - p.from)} cells slow`}, class ${p.worst}`,
      evidence: p.unread > 0 ? "exact sectors when the sweep has ended" : "read again at the end",
    };
  });
}

/** The most rows a table draws; the command line and the API list them all. */
const most = 200;

type Column = [words: string, className?: "num" | "soft"];

/** A section whose facts are a table. */
function Facts({
  title,
  says,
  children,
  columns,
  rows,
}: {
  title: string;
  says: ReactNode;
  children?: ReactNode;
  columns: Column[];
  rows: { key: string; cells: ReactNode[] }[];
}) {
  return (
    <Places>
      <Section>
        <header>
          <h2>{title}</h2>
          <p>{says}</p>
        </header>
        {children}
        {rows.length > 0 && (
          <Scroll>
            <Table>
              <thead>
                <tr>
                  {columns.map(([words, className]) => (
                    <th key={words} className={className === "num" ? "num" : undefined}>
                      {words}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {rows.slice(0, most).map(({ key, cells }) => (
                  <tr key={key}>
                    {columns.map(([words, className], i) => (
                      <td key={words} className={className}>
                        {cells[i]}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </Table>
            {rows.length > most && <p>and {number(rows.length - most)} more; the command line and the API list them all.</p>}
          </Scroll>
        )}
      </Section>
    </Places>
  );
}

/** The table of the same facts as the ribbon. */
export function SweepPlaces({ rows, ended }: { rows: Row[]; ended: boolean }) {
  return (
    <Facts
      title="Places"
      says={
        rows.length === 0
          ? `nothing slow, nothing unreadable${ended ? "" : " so far"}`
          : `${number(rows.length)} ${ended ? "" : "so far, "}in the order of the surface: the table of what the ribbon shows`
      }
      columns={[["where"], ["LBA", "num"], ["what"], ["evidence", "soft"]]}
      rows={rows.map((r) => ({ key: r.key, cells: [r.where, r.lba, r.what, r.evidence] }))}
    />
  );
}

/** What a rework wrote, and the counters before and after it. */
export function Written({ rework }: { rework: Rework }) {
  const rows = rework.rows.filter((r) => r.matters && (r.before !== undefined || r.now !== undefined) && (r.before !== 0 || r.now !== 0));
  const value = (v: number | undefined) => (v === undefined ? "not available" : number(v));
  return (
    <Facts
      title="Before and after"
      says={`released for ${rework.release.scope} by ${rework.release.owner}, recorded by ${rework.release.by}`}
      columns={[["signal"], ["before", "num"], ["after", "num"], ["what it says", "soft"]]}
      rows={rows.map((r) => ({ key: r.signal, cells: [r.words, value(r.before), value(r.now), r.says] }))}
    >
      {rework.words.map(({ words }) => (
        <p key={words}>{words}</p>
      ))}
    </Facts>
  );
}

/** Every place in which a sweep and an earlier one differ, or that both found. */
export function Changes({
  all,
  earlier,
  sector,
  bytes,
}: {
  all: { lba: number; sectors: number; change: string; before: string; after: string }[];
  earlier: number;
  sector: number;
  bytes: number;
}) {
  return (
    <Facts
      title={`Compared with run ${earlier}`}
      says={all.length === 0 ? "neither found anything" : `${number(all.length)} places that either found`}
      columns={[["where"], ["LBA", "num"], ["change"], ["then", "soft"], ["now", "soft"]]}
      rows={all.map((d) => ({ key: `${d.lba}${d.after}`, cells: [spot(d.lba * sector, bytes, 1), d.lba, d.change, d.before, d.after] }))}
    />
  );
}
