import { Fragment, useState } from "react";
import styled from "styled-components";
import type { Attribute, Reading } from "../data/types";
import { color, mono, px, text } from "../theme/tokens";
import { NotAvailable, Scroll, Section, Table } from "./basics";
import { momentOf, number } from "./format";
import { type Place, Plain } from "./places";
import { FactTable } from "./RawPages";

const Explained = styled.tr`
  & > td { background: ${color.well}; padding: 8px 12px 12px 48px; }
  & p { max-width: 70ch; color: ${color.ink2}; }
  & dl { display: grid; grid-template-columns: 96px 1fr; ${text.small} row-gap: 4px; padding-top: 8px; }
  & dt { color: ${color.ink3}; }
`;

const Hex = styled.span`font-family: ${mono}; font-size: ${px.small};`;

const raw = (hex: string) => hex.replace(/(.{4})(?=.)/g, "$1 ").toUpperCase();

function standing(a: Attribute): string {
  if (a.threshold === undefined || a.threshold === 0) return `${a.value}, worst ${a.worst}. No threshold: it cannot fail.`;
  if (a.state_reason) return `${a.value}, worst ${a.worst}, at threshold ${a.threshold} not judged: ${a.state_reason}.`;
  const room = a.value - a.threshold;
  const what = a.kind === "pre-failure" ? "announces failure" : "tells of age";
  return room > 0
    ? `${a.value}, worst ${a.worst}. At ${a.threshold} or below it ${what}; ${room} left.`
    : `${a.value}, at or below ${a.threshold}: it ${what} now.`;
}

/** Pages that hold the counters of drives without attributes. */
export const counterPages = [
  "nvme/log-02",
  "scsi/log-03",
  "scsi/log-02",
  "scsi/log-05",
  "scsi/defects",
  "scsi/defects-10",
  "scsi/log-11",
  "scsi/log-15",
  "scsi/log-0d",
  "scsi/log-2f",
];

/** A drive's counters in words. A counter's name opens its explanation. */
export function CounterTable({ reading, follow }: { reading: Reading; follow: (place: Place) => void }) {
  const [open, setOpen] = useState<number>();
  if (reading.attributes.length === 0) {
    const sheets = counterPages.flatMap((page) => reading.sheets.filter((s) => s.page === page && s.facts.length > 0));
    if (sheets.length > 0) return <FactTable sheets={sheets} follow={follow} />;
    const fault = reading.faults.find((f) => f.page === "ata/attributes" || f.page === "nvme/log-02") ?? reading.faults[0];
    return (
      <p>
        <NotAvailable reason={fault ? `${fault.back}. ${fault.advice}` : "the reading holds no counters"} />
      </p>
    );
  }
  return (
    <Scroll>
      <Table>
        <thead>
          <tr>
            <th className="num">no.</th>
            <th>counter</th>
            <th>now</th>
            <th className="num">value</th>
            <th className="num">worst</th>
            <th className="num">threshold</th>
            <th className="num">raw, 6 bytes</th>
          </tr>
        </thead>
        <tbody>
          {reading.attributes.map((a) => (
            <Fragment key={a.id}>
              <tr style={a.state === "failing" ? { fontWeight: 600 } : undefined}>
                <td className="num soft small">{a.id}</td>
                <td>
                  <Plain type="button" aria-expanded={open === a.id} onClick={() => setOpen(open === a.id ? undefined : a.id)}>
                    {a.name}
                  </Plain>
                </td>
                <td className="strong whole">{a.meaning}</td>
                <td className="num">{a.value}</td>
                <td className="num">{a.worst}</td>
                <td className="num">{a.threshold ? a.threshold : <span className="soft">none</span>}</td>
                <td className="num soft whole">
                  <Hex>{raw(a.raw)}</Hex>
                </td>
              </tr>
              {open === a.id && (
                <Explained>
                  <td colSpan={7}>
                    <p>{a.explain}</p>
                    <dl>
                      <dt>value</dt>
                      <dd>{standing(a)}</dd>
                      <dt>source</dt>
                      <dd>
                        <Plain type="button" onClick={() => follow({ page: "ata/attributes", offset: a.offset, length: 12 })}>
                          SMART data, bytes {a.offset} to {a.offset + 11}
                        </Plain>
                        ; confidence: {a.confidence}; entry of {a.from}
                      </dd>
                    </dl>
                  </td>
                </Explained>
              )}
            </Fragment>
          ))}
        </tbody>
      </Table>
    </Scroll>
  );
}

/** The drive's device statistics, the standard's own counters. A name leads to its bytes. */
export function DeviceStatistics({ reading, follow }: { reading: Reading; follow: (place: Place) => void }) {
  const fault = reading.faults.find((f) => f.page === "ata/log-04");
  return (
    <Section>
      <header>
        <h2>Device statistics</h2>
        <p>{reading.statistics.length > 0 && `${reading.statistics.length} supported`}</p>
      </header>
      {reading.statistics.length === 0 ? (
        <p>
          <NotAvailable reason={fault ? `${fault.back}. ${fault.advice}` : "the reading holds none"} />
        </p>
      ) : (
        <Scroll>
          <Table>
            <thead>
              <tr>
                <th>statistic</th>
                <th className="num">now</th>
              </tr>
            </thead>
            <tbody>
              {reading.statistics.map((s) => (
                <tr key={s.offset}>
                  <td>
                    <Plain type="button" onClick={() => follow({ page: "ata/log-04", offset: s.offset, length: 8 })}>
                      {s.name}
                    </Plain>
                  </td>
                  <td className="num">
                    {s.value === undefined ? (
                      <NotAvailable reason="the drive has no value now" />
                    ) : (
                      <b>{`${number(s.value)} ${s.unit}`.trim()}</b>
                    )}
                    {s.normalized && " normalised"}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </Scroll>
      )}
    </Section>
  );
}

/** What stands above a reading's counters. */
export const readingLine = (r: Reading) =>
  `reading ${r.seq}, ${momentOf(r.at)}${r.attributes.length > 0 ? ` · family ${r.family}, dialect ${r.dialect}` : ""}${cameFrom(r)}`;

/** Whose record file a reading came in, where a bench of this shop did not take it. */
const cameFrom = (r: Reading) =>
  r.origin === undefined ? "" : r.origin.startsWith("unsigned") ? ` · from a file: ${r.origin}` : ` · from a file signed by ${r.origin}`;
