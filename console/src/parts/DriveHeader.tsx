import type { ReactNode } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import type { Drive } from "../data/types";
import { color, medium, narrow, text } from "../theme/tokens";
import { Serial } from "./basics";
import { number, size } from "./format";

const Box = styled.section`
  min-height: 64px; border-bottom: 1px solid ${color.rule}; padding: 0 24px; display: flex; align-items: center;
  white-space: nowrap; background: ${color.paper}; position: sticky; top: 0; z-index: 5; gap: 24px;
  & dl { display: flex; flex: 1; min-width: 0; }
  & dl > div { padding: 0 16px; border-left: 1px solid ${color.rule}; min-width: 0; }
  & dt { ${text.small} color: ${color.ink3}; }
  & dd { overflow: hidden; text-overflow: ellipsis; }
  & .serial { text-decoration: none; }
  & .verdict { display: flex; align-items: center; gap: 8px; ${text.large} font-weight: 600; }
  & .verdict small { ${text.small} font-weight: 400; color: ${color.ink3}; }
  & .do { display: flex; gap: 8px; }
  @media (max-width: ${medium}px) { position: static; flex-wrap: wrap; white-space: normal; padding: 12px 24px; gap: 12px 0;
    & dl { flex: 1 1 100%; flex-wrap: wrap; row-gap: 8px; } & dl > div:first-child { border-left: 0; padding-left: 0; } }
  @media (max-width: ${narrow}px) { & .do { flex-wrap: wrap; } }
`;

/** What a drive is, in a line. */
export function kindOf(d: Drive): string {
  const sector = d.logical_sector && ![512, 4096].includes(d.logical_sector) ? `${d.logical_sector}-byte sectors` : undefined;
  const how = d.rotation_rate ? `${number(d.rotation_rate)}/min` : d.medium === "flash" ? "flash" : undefined;
  const hidden = d.hidden ? `${size(d.hidden)} hidden` : undefined;
  return [d.model, d.bytes && size(d.bytes), how, sector, hidden].filter(Boolean).join(" · ");
}

/** On which ticket a drive is here, as a name and a value. */
export function ticketOf(d: Drive): [string, string][] {
  if (!d.intake) return [];
  const name = d.intake.ticket ? `Ticket ${d.intake.ticket}` : `Intake ${d.intake.id}`;
  return [[name, d.intake.customer ?? d.intake.complaint ?? "taken in"]];
}

/** The head of every page about one drive: which it is, what is so of it, and what can be done. */
export function DriveHeader({
  serial,
  to,
  facts,
  children,
}: {
  serial: string;
  /** Where the serial leads; absent: this is the drive's own page. */
  to?: string;
  facts: [name: string, value: string][];
  children?: ReactNode;
}) {
  return (
    <Box aria-label="Identity">
      {to ? (
        <Link className="serial" to={to}>
          <Serial serial={serial} />
        </Link>
      ) : (
        <Serial serial={serial} />
      )}
      <dl>
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt>{name}</dt>
            <dd title={value}>{value}</dd>
          </div>
        ))}
      </dl>
      {children}
    </Box>
  );
}
