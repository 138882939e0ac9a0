import { useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import { apiPath } from "../data/base";
import { useDesk } from "../data/orders";
import { usePerson } from "../data/person";
import { useLot } from "../data/queries";
import type { LotDrive } from "../data/types";
import { Button, LinkButton, Scroll, Section, State, Table, Tape, Wrong } from "../parts/basics";
import { dayOf, left, number, parts, size } from "../parts/format";
import { LotCounts, LotUsable, SiblingLines } from "../parts/LotFigures";
import { gradeColor, gradeTint, VerdictWord } from "../parts/marks";
import { color, medium, px, text } from "../theme/tokens";
import { useActions } from "./Shell";

const Ident = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; align-items: center; gap: 8px 24px;
  flex-wrap: wrap;
  & .no { display: flex; align-items: baseline; gap: 8px; }
  & .no small { font-weight: 400; font-size: ${px.small}; color: ${color.ink3}; }
  & .no b { ${text.display} letter-spacing: 0.02em; }
  & dl { display: flex; flex: 1; min-width: 0; flex-wrap: wrap; row-gap: 8px; }
  & dl > div { padding: 0 16px; border-left: 1px solid ${color.rule}; }
  & dt { ${text.small} color: ${color.ink3}; }
  & .do { display: flex; gap: 8px; flex-wrap: wrap; }
`;
const Three = styled.div`
  display: grid; grid-template-columns: repeat(3, minmax(0, 1fr)); gap: 16px; padding: 16px 24px;
  @media (max-width: ${medium}px) { grid-template-columns: minmax(0, 1fr); }
`;
const Drives = styled(Section)`
  margin: 0 24px 40px;
  & td { height: 32px; white-space: nowrap; vertical-align: middle; }
  & td.wide { white-space: normal; min-width: 240px; ${text.small} }
  & .ending { font-size: ${px.large}; font-weight: 600; letter-spacing: 0.02em; }
  & .ending a { text-decoration: none; } & .ending a::after { content: ""; position: absolute; inset: 0; }
  & tbody tr { position: relative; } & tbody tr:hover td { background: ${color.well}; }
  & .margin { display: grid; grid-template-columns: 64px 1fr; gap: 12px; align-items: center; }
  & th button { background: none; border: 0; font: inherit; color: inherit; cursor: pointer; min-height: 32px; }
  & th[aria-sort] button { color: ${color.ink}; font-weight: 600; }
`;

interface Column {
  name: string;
  right?: boolean;
  /** What rows are sorted by: least first. Absent for a text. */
  key: (d: LotDrive) => number | string;
}

const rank = { replace: 0, undecided: 1, degrading: 2, healthy: 3 } as const;
const value = (d: LotDrive, name: string) => d.values[name] ?? -1;
const columns: Column[] = [
  { name: "drive", key: (d) => d.drive?.serial ?? "" },
  { name: "verdict", key: (d) => rank[d.grade] },
  { name: "tightest margin", key: (d) => d.drive?.margin_share ?? -1 },
  { name: "hours", right: true, key: (d) => value(d, "power_on_hours") },
  { name: "reallocated", right: true, key: (d) => value(d, "reallocated") },
  { name: "pending", right: true, key: (d) => value(d, "pending") },
  { name: "slow", right: true, key: (d) => value(d, "slow_found") },
  { name: "hottest, °C", right: true, key: (d) => value(d, "temperature_highest") },
  { name: "outer, MB/s", right: true, key: (d) => d.speed ?? -1 },
  { name: "apart from siblings, or next", key: (d) => d.apart[0] ?? d.next.words },
];

function Cell({ d, name }: { d: LotDrive; name: string }) {
  const x = d.values[name];
  return <td className="num">{x === undefined ? <span className="soft">not read</span> : number(x)}</td>;
}

function Row({ d }: { d: LotDrive }) {
  const serial = d.drive?.serial;
  const tint = d.grade === "replace" ? { background: gradeTint.replace } : undefined;
  return (
    <tr style={tint}>
      <td className="ending">
        {serial ? (
          <Link to={`/drives/${encodeURIComponent(serial)}`} title={serial}>
            {parts(serial)[1]}
          </Link>
        ) : (
          <span className="soft">intake {d.intake.id}</span>
        )}
      </td>
      <td>
        <VerdictWord grade={d.grade} />
      </td>
      <td>
        {d.drive?.margin ? (
          <span className="margin">
            <Tape share={d.drive.margin_share ?? 0} ink={gradeColor[d.grade]} />
            {d.drive.margin}
          </span>
        ) : (
          <span className="soft">not judged</span>
        )}
      </td>
      <Cell d={d} name="power_on_hours" />
      <Cell d={d} name="reallocated" />
      <Cell d={d} name="pending" />
      <Cell d={d} name="slow_found" />
      <Cell d={d} name="temperature_highest" />
      <td className="num">{d.speed ? number(d.speed / 1e6) : <span className="soft">not read</span>}</td>
      <td className="wide">{d.apart.length > 0 ? d.apart.join("; ") : `${d.next.words}${d.minutes ? `, ${left(d.minutes * 60)}` : ""}`}</td>
    </tr>
  );
}

/** A lot: how many of each, what they do for, who stands apart, and every drive. */
export default function LotPage() {
  const id = Number(useParams().lot);
  const lot = useLot(id);
  const desk = useDesk(usePerson().name);
  const { asPerson } = useActions();
  const [sort, setSort] = useState<{ by: number; down: boolean }>();
  if (lot.isError && !lot.data) return <Wrong error={lot.error} retry={() => lot.refetch()} />;
  if (!lot.data) return <State title="Fetching the lot" />;
  const { lot: l, drives, counts, usable, compared, policy } = lot.data;
  const toSign = drives.filter((d) => d.next.code === "next.sign");
  const models = [
    ...new Set(drives.flatMap((d) => (d.drive ? [`${d.drive.model}${d.drive.bytes ? `, ${size(d.drive.bytes)}` : ""}`] : []))),
  ];
  const key = sort && columns[sort.by]?.key;
  const sorted = key
    ? drives.toSorted((a, b) => {
        const [x, y] = [key(a), key(b)];
        const order = x < y ? -1 : x > y ? 1 : 0;
        return sort.down ? -order : order;
      })
    : drives;
  const facts: [string, string][] = [
    [l.ticket ? `Customer, ticket ${l.ticket}` : "Customer", l.customer ?? "not named"],
    [
      "Drives",
      `${drives.length}${l.expected ? ` of ${l.expected}` : ""}${models.length === 1 ? ` ${models[0]}` : `, ${models.length} models`}`,
    ],
    ["Taken in", l.ended ? `${dayOf(l.at)} to ${dayOf(l.ended)}` : `from ${dayOf(l.at)}, open`],
    ["Duty, policy", `${l.duty}, ${policy}${l.check ? `; each: ${l.check === "whole" ? "whole sweep" : `${l.check} check`}` : ""}`],
  ];
  return (
    <>
      <title>{`Lot ${l.id} · Hylostat`}</title>
      <Ident aria-label="Lot">
        <h1 className="no">
          <small>lot</small>
          <b>{l.id}</b>
        </h1>
        <dl>
          {facts.map(([name, words]) => (
            <div key={name}>
              <dt>{name}</dt>
              <dd>{words}</dd>
            </div>
          ))}
        </dl>
        <div className="do">
          {l.open && <Button onPress={() => asPerson(() => desk.endLot.mutate(l.id))}>End</Button>}
          <LinkButton href={apiPath(`/lots/${l.id}/labels?stock=62x29`)} target="_blank">
            Labels
          </LinkButton>
          <LinkButton href={apiPath(`/lots/${l.id}/summary?format=pdf`)} target="_blank">
            Summary
          </LinkButton>
          <LinkButton href={apiPath(`/lots/${l.id}/summary?format=csv`)} download={`lot-${l.id}.csv`}>
            CSV
          </LinkButton>
          {toSign.length > 0 && (
            <Button
              $filled
              isDisabled={desk.signTogether.isPending}
              onPress={() => asPerson(() => desk.signTogether.mutate(toSign.flatMap((d) => (d.drive ? [d.drive.serial] : []))))}
            >
              Sign {toSign.length} healthy
            </Button>
          )}
        </div>
      </Ident>
      {drives.length === 0 ? (
        <State title="No drive yet">Put the first one in: it is taken in on lot {l.id} as soon as it answers.</State>
      ) : (
        <>
          <Three>
            <LotCounts counts={counts} of={drives.length} />
            <LotUsable usable={usable} />
            <SiblingLines compared={compared} />
          </Three>
          <Drives>
            <Scroll>
              <Table>
                <thead>
                  <tr>
                    {columns.map((c, i) => (
                      <th
                        key={c.name}
                        className={c.right ? "num" : undefined}
                        aria-sort={sort?.by === i ? (sort.down ? "descending" : "ascending") : undefined}
                      >
                        <button type="button" onClick={() => setSort({ by: i, down: sort?.by === i ? !sort.down : c.right === true })}>
                          {c.name}
                          {sort?.by === i && (sort.down ? " ▾" : " ▴")}
                        </button>
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {sorted.map((d) => (
                    <Row key={d.intake.id} d={d} />
                  ))}
                </tbody>
              </Table>
            </Scroll>
          </Drives>
        </>
      )}
    </>
  );
}
