import styled from "styled-components";
import type { Page, Reading, Sheet } from "../data/types";
import { color, mono, text } from "../theme/tokens";
import { NotAvailable, Scroll, Table } from "./basics";
import { grouped } from "./format";
import { type Place, Plain } from "./places";

const Heading = styled.th`
  && { padding-top: 16px; ${text.body} font-weight: 600; color: ${color.ink}; }
`;
const Facts = styled(Table)`
  margin-bottom: 16px;
  & td:first-child { width: 56%; }
`;

/** What pages say, each under its title when there are several. A fact's name leads to its bytes. */
export function FactTable({ sheets, follow }: { sheets: Sheet[]; follow: (place: Place) => void }) {
  return (
    <Scroll>
      <Facts>
        {sheets.map((sheet) => (
          <tbody key={sheet.page}>
            {sheets.length > 1 && (
              <tr>
                <Heading colSpan={2} scope="rowgroup">
                  {sheet.title}
                </Heading>
              </tr>
            )}
            {sheet.facts.map((f) => (
              <tr key={`${f.offset} ${f.name}`}>
                <td>
                  <Plain type="button" onClick={() => follow({ page: sheet.page, offset: f.offset, length: f.length })}>
                    {f.name}
                  </Plain>
                </td>
                <td>
                  {f.value === undefined ? (
                    <NotAvailable reason={f.reason} />
                  ) : (
                    <b>{`${f.number ? grouped(f.value) : f.value} ${f.unit}`.trim()}</b>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        ))}
      </Facts>
    </Scroll>
  );
}

const Raw = styled.div`
  display: grid; grid-template-columns: 264px minmax(0, 1fr); gap: 24px; padding-top: 8px;
  & li button { width: 100%; min-height: 44px; padding: 4px 8px; border: 0; border-bottom: 1px solid ${color.rule};
    background: none; text-align: left; cursor: pointer; }
  & li button[aria-current="true"] { background: ${color.well}; font-weight: 600; }
  & small { ${text.small} color: ${color.ink3}; font-weight: 400; display: block; }
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
  const sheet = reading.sheets.find((s) => s.page === page.name);
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
        <div>
          {sheet && sheet.facts.length > 0 && <FactTable sheets={[sheet]} follow={choose} />}
          {page.bytes === undefined && !!page.size && <p>Fetching its bytes …</p>}
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
        </div>
      )}
    </Raw>
  );
}
