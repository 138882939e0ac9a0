import styled from "styled-components";
import { apiPath } from "../data/base";
import type { Drive, ReadingSummary, Siblings, Volumes } from "../data/types";
import { color, text } from "../theme/tokens";
import { Button, LinkButton, Section, Table } from "./basics";
import { dateOf, momentOf, size } from "./format";

const Row = styled.div`display: flex; flex-wrap: wrap; gap: 8px; padding-top: 8px; & p { flex: 1 1 100%; color: ${color.ink2};
  } & > b { flex: 1 1 100%; }`;

/** What leaves with a drive, and the act of leaving. */
export function Papers({
  drive,
  putRight,
  handOver,
  became,
}: {
  drive: Drive;
  putRight: () => void;
  handOver: () => void;
  /** Asks what became of it. */
  became: () => void;
}) {
  const base = apiPath(`/drives/${encodeURIComponent(drive.serial)}`);
  const ended = drive.intake?.handover;
  return (
    <Section>
      <header>
        <h2>Hand over</h2>
        <p>
          {ended
            ? `${ended.goes} on ${dateOf(ended.at)} by ${ended.by}, data ${ended.data}`
            : drive.intake
              ? `here on intake ${drive.intake.id}`
              : "on no intake"}
        </p>
      </header>
      <Row>
        <LinkButton href={`${base}/statement?format=pdf`} target="_blank">
          Statement
        </LinkButton>
        <LinkButton href={`${base}/label?format=pdf`} target="_blank">
          Label
        </LinkButton>
        <LinkButton href={`${base}/archive`} download={`${drive.serial}.zip`}>
          Whole record
        </LinkButton>
        {drive.intake && !ended && (
          <>
            <Button onPress={putRight}>Put the intake right …</Button>
            <Button onPress={handOver}>Hand over …</Button>
          </>
        )}
        <Button onPress={became}>What became of it …</Button>
      </Row>
    </Section>
  );
}

/** Whether a drive stands apart from the others of its model, in sentences. */
export function SiblingSection({ siblings }: { siblings: Siblings }) {
  return (
    <Section>
      <header>
        <h2>Among its siblings</h2>
        <p>
          {siblings.of} {siblings.model} here
        </p>
      </header>
      <Row>
        {siblings.of < 6 ? (
          <p>Too few to say what is usual: six are needed.</p>
        ) : siblings.apart.length === 0 ? (
          <p>It does not stand apart from them in anything it counts.</p>
        ) : (
          siblings.apart.map((a) => <p key={a}>{a}</p>)
        )}
      </Row>
    </Section>
  );
}

const Held = styled(Section)`
  & .num { white-space: nowrap; } & td { ${text.small} } & td b { ${text.body} }
`;

/** Partitions and file systems on a drive, and whether they or the drive are at fault. */
export function VolumeSection({ volumes, look, busy }: { volumes: Volumes | null; look?: () => void; busy: boolean }) {
  return (
    <Held>
      <header>
        <h2>File systems</h2>
        <p>{volumes ? `looked at ${momentOf(volumes.at)}` : "not looked at"}</p>
      </header>
      <Row>
        {volumes && <b>{volumes.says.words}</b>}
        {volumes?.faults.map((f) => (
          <p key={f}>Partition table: {f}.</p>
        ))}
        {volumes && volumes.volumes.length > 0 && (
          <Table>
            <thead>
              <tr>
                <th>no.</th>
                <th>holds</th>
                <th className="num">size</th>
                <th>says of itself</th>
              </tr>
            </thead>
            <tbody>
              {volumes.volumes.map((v) => (
                <tr key={v.partition}>
                  <td>{v.partition || "whole"}</td>
                  <td>
                    <b>{v.kind ?? "not recognised"}</b>
                    {v.label && ` “${v.label}”`}
                  </td>
                  <td className="num">{size(v.bytes)}</td>
                  <td>
                    {v.state}
                    {v.why && `: ${v.why}`}
                    {v.checked && (
                      <div className="soft">{v.checked === "not checked" ? `not checked: ${v.said}` : `${v.checker}: ${v.checked}`}</div>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
        {look && (
          <Button onPress={look} isDisabled={busy}>
            {busy ? "Looking …" : "Look, changing nothing"}
          </Button>
        )}
      </Row>
    </Held>
  );
}

const Pick = styled.form`
  display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: end; padding-top: 8px;
  & label { ${text.small} color: ${color.ink2}; display: grid; gap: 4px; }
  & select { min-height: 44px; padding: 0 8px; border: 1px solid ${color.edge}; background: ${color.sheet}; font: inherit;
    color: inherit; max-width: 280px; }
`;

const title = (r: ReadingSummary) => `${r.seq}, ${momentOf(r.at)}`;

/** Chooses any two readings to lay beside each other. */
export function ChooseReadings({
  readings,
  before,
  now,
  choose,
}: {
  readings: ReadingSummary[];
  before: number;
  now: number;
  choose: (before: number, now: number) => void;
}) {
  const options = readings
    .filter((r) => !r.aside)
    .map((r) => (
      <option key={r.seq} value={r.seq}>
        {title(r)}
      </option>
    ));
  return (
    <Pick aria-label="Compare two readings" onSubmit={(e) => e.preventDefault()}>
      <label>
        Compare reading
        <select value={before} onChange={(e) => choose(Number(e.target.value), now)}>
          {options}
        </select>
      </label>
      <label>
        with reading
        <select value={now} onChange={(e) => choose(before, Number(e.target.value))}>
          {options}
        </select>
      </label>
    </Pick>
  );
}
