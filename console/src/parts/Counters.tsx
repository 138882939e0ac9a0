import { Fragment, useState } from "react";
import styled from "styled-components";
import type { Attribute, Fault, Page, Reading, SelfTest } from "../data/types";
import { color, mono } from "../theme/tokens";
import { NotAvailable, Scroll, Section, Table } from "./basics";
import { momentOf, number } from "./format";

const Plain = styled.button`
  background: none; border: 0; text-align: left; cursor: pointer; text-decoration: underline; text-decoration-color: ${color.edge}; text-underline-offset: 3px; white-space: nowrap; min-height: 24px;
`;

const Explained = styled.tr`
  & > td { background: ${color.well}; padding: 8px 12px 12px 48px; }
  & p { max-width: 70ch; color: ${color.ink2}; }
  & dl { display: grid; grid-template-columns: 96px 1fr; font-size: 13px; line-height: 18px; row-gap: 4px; padding-top: 8px; }
  & dt { color: ${color.ink3}; }
`;

const Hex = styled.span`font-family: ${mono}; font-size: 13px;`;

const raw = (hex: string) => hex.replace(/(.{4})(?=.)/g, "$1 ").toUpperCase();

function standing(a: Attribute): string {
  if (a.threshold === undefined || a.threshold === 0) return `${a.value}, worst ${a.worst}. No threshold: it cannot fail.`;
  const room = a.value - a.threshold;
  const what = a.kind === "pre-failure" ? "announces failure" : "tells of age";
  return room > 0
    ? `${a.value}, worst ${a.worst}. At ${a.threshold} or below it ${what}; ${room} left.`
    : `${a.value}, at or below ${a.threshold}: it ${what} now.`;
}

/** Which bytes of which page to show. */
export interface Place {
  page: string;
  offset: number;
  length: number;
}

/** A drive's counters in words. A counter's name opens its explanation. */
export function CounterTable({ reading, follow }: { reading: Reading; follow: (place: Place) => void }) {
  const [open, setOpen] = useState<number>();
  if (reading.attributes.length === 0) {
    const fault = reading.faults.find((f) => f.page === "ata/attributes") ?? reading.faults[0];
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
                <td style={{ fontWeight: 600, whiteSpace: "nowrap" }}>{a.meaning}</td>
                <td className="num">{a.value}</td>
                <td className="num">{a.worst}</td>
                <td className="num">{a.threshold ? a.threshold : <span className="soft">none</span>}</td>
                <td className="num soft" style={{ whiteSpace: "nowrap" }}>
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
                        ; confidence: {a.confidence}
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

/** The drive's own self-test log. */
export function SelfTests({ tests, fault }: { tests: SelfTest[]; fault?: Fault }) {
  return (
    <Section>
      <header>
        <h2>Self-tests</h2>
        <p>{fault ? "" : `${tests.length} of 21 slots used`}</p>
      </header>
      {fault ? (
        <p>
          <NotAvailable reason={`${fault.back}. ${fault.advice}`} />
        </p>
      ) : tests.length === 0 ? (
        <p>None was ever run. An empty slot is no pass.</p>
      ) : (
        <Scroll>
          <Table>
            <thead>
              <tr>
                <th className="num">at</th>
                <th>kind</th>
                <th>result</th>
                <th className="num">first failing LBA</th>
              </tr>
            </thead>
            <tbody>
              {tests.map((t) => (
                <tr key={t.offset}>
                  <td className="num">{number(t.hours)} h</td>
                  <td>{t.kind}</td>
                  <td>{t.failed ? <b>{t.result}</b> : t.result}</td>
                  <td className="num">{t.lba === undefined ? <span className="soft">none</span> : number(t.lba)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </Scroll>
      )}
    </Section>
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

/** The errors a drive remembers. */
export function LoggedErrors({ reading }: { reading: Reading }) {
  if (reading.error_total === undefined || reading.error_total === 0) return null;
  return (
    <Section>
      <header>
        <h2>Errors in the drive’s log</h2>
        <p>{number(reading.error_total)} in its life, the last five kept</p>
      </header>
      <Scroll>
        <Table>
          <thead>
            <tr>
              <th className="num">at</th>
              <th>command that failed</th>
              <th>what came back</th>
              <th className="num">LBA</th>
            </tr>
          </thead>
          <tbody>
            {reading.errors.map((e) => (
              <tr key={e.offset}>
                <td className="num">{number(e.hours)} h</td>
                <td>{e.command}</td>
                <td>{e.meaning}</td>
                <td className="num">{number(e.lba)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      </Scroll>
    </Section>
  );
}

const Raw = styled.div`
  display: grid; grid-template-columns: 264px minmax(0, 1fr); gap: 24px; padding-top: 8px;
  & li button { width: 100%; min-height: 44px; padding: 4px 8px; border: 0; border-bottom: 1px solid ${color.rule}; background: none; text-align: left; cursor: pointer; }
  & li button[aria-current="true"] { background: ${color.well}; font-weight: 600; }
  & small { font-size: 13px; line-height: 18px; color: ${color.ink3}; font-weight: 400; display: block; }
  & .hex { display: grid; grid-template-columns: 56px repeat(16, 28px); text-align: center; font: 400 13px/22px ${mono}; }
  & .hex > :first-child { text-align: left; }
  & .hex .soft { color: ${color.ink3}; }
  & .hex .hot { background: ${color.ink}; color: ${color.paper}; }
  @media (max-width: 700px) { grid-template-columns: minmax(0, 1fr); }
`;

/** Decodes the contract's base64 bytes. */
export const bytesOf = (page: Page): Uint8Array => Uint8Array.from(atob(page.bytes ?? ""), (c) => c.charCodeAt(0));

/** The pages as the drive sent them; a place is shown inverted. */
export function RawPages({ reading, place, choose }: { reading: Reading; place: Place; choose: (place: Place) => void }) {
  const page = reading.pages.find((p) => p.name === place.page) ?? reading.pages[0];
  if (!page) return <NotAvailable reason="the reading holds no pages" />;
  const bytes = bytesOf(page);
  const rows = [];
  for (let at = 0; at < bytes.length; at += 16) rows.push({ at, row: bytes.slice(at, at + 16) });
  return (
    <Raw>
      <ul>
        {reading.pages.map((p) => (
          <li key={p.name}>
            <button type="button" aria-current={p.name === page.name} onClick={() => choose({ page: p.name, offset: 0, length: 0 })}>
              {p.title}
              <small>{p.fault ? `not read: ${p.fault.back}` : `${p.size} bytes, by ${p.how}`}</small>
            </button>
          </li>
        ))}
      </ul>
      {page.fault ? (
        <NotAvailable reason={`${page.fault.what}: ${page.fault.back}. ${page.fault.advice}`} />
      ) : (
        <Scroll tabIndex={0} role="region" aria-label={`${page.title}, bytes`}>
          {rows.map(({ at, row }) => (
            <div className="hex" key={at}>
              <span className="soft">{at.toString(16).padStart(4, "0")}</span>
              {Array.from(row, (b, i) => (
                <span
                  // biome-ignore lint/suspicious/noArrayIndexKey: a byte is its place in the page
                  key={i}
                  className={at + i >= place.offset && at + i < place.offset + place.length ? "hot" : b === 0 ? "soft" : undefined}
                >
                  {b.toString(16).padStart(2, "0")}
                </span>
              ))}
            </div>
          ))}
        </Scroll>
      )}
    </Raw>
  );
}

/** What stands above a reading's counters. */
export const readingLine = (r: Reading) => `reading ${r.seq}, ${momentOf(r.at)} · dialect ${r.dialect}`;
