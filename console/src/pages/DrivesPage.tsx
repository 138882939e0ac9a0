import { useState } from "react";
import { Input, Label, Radio, RadioGroup, SearchField } from "react-aria-components";
import { Link } from "react-router";
import styled from "styled-components";
import { useDrives } from "../data/queries";
import type { Grade } from "../data/types";
import { NotAvailable, Scroll, State, Table, Wrong } from "../parts/basics";
import { dayOf, hours, parts, size } from "../parts/format";
import { VerdictWord } from "../parts/marks";
import { hidden } from "../theme/Global";
import { color } from "../theme/tokens";

const Tools = styled.section`
  border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; flex-wrap: wrap; gap: 8px 24px; align-items: center;
  & input { min-height: 44px; width: 320px; max-width: 100%; padding: 0 12px; border: 1px solid ${color.edge}; background: ${color.sheet}; }
`;
const Grades = styled(RadioGroup)`
  display: flex; flex-wrap: wrap;
  & > [data-rac] { display: flex; align-items: center; min-height: 44px; padding: 0 12px; cursor: pointer; border: 1px solid ${color.rule}; margin-left: -1px; }
  & > [data-selected] { border-color: ${color.ink}; background: ${color.well}; z-index: 1; }
`;
const Body = styled.div`
  padding: 8px 24px 40px;
  & tbody tr { position: relative; cursor: pointer; } & tbody tr:hover { background: ${color.well}; }
  & a { text-decoration: none; } & a::after { content: ""; position: absolute; inset: 0; }
  & .serial b { font-size: 18px; letter-spacing: 0.02em; } & .serial { white-space: nowrap; color: ${color.ink3}; } & .serial b { color: ${color.ink}; }
`;

const grades: (Grade | "all")[] = ["all", "replace", "degrading", "healthy", "undecided"];

/** All drives the shop has met, found as one types. */
export default function DrivesPage() {
  const [text, setText] = useState("");
  const [grade, setGrade] = useState<Grade | "all">("all");
  const drives = useDrives(text, grade === "all" ? undefined : grade);
  if (drives.isError && !drives.data) return <Wrong error={drives.error} retry={() => drives.refetch()} />;
  return (
    <>
      <title>Drives · Hylostat</title>
      <h1 style={hidden}>Drives</h1>
      <Tools aria-label="Find">
        <SearchField value={text} onChange={setText}>
          <Label style={hidden}>Serial, model, ticket or customer</Label>
          <Input placeholder="Serial, model, ticket or customer" />
        </SearchField>
        <Grades aria-label="Verdict" orientation="horizontal" value={grade} onChange={(g) => setGrade(g as Grade | "all")}>
          {grades.map((g) => (
            <Radio key={g} value={g}>
              {g === "all" ? "all" : <VerdictWord grade={g} />}
            </Radio>
          ))}
        </Grades>
      </Tools>
      <Body>
        {!drives.data ? (
          <State title="Fetching the drives" />
        ) : drives.data.length === 0 ? (
          <State title="No drive found">
            {text || grade !== "all"
              ? "Type less of it, or choose another verdict."
              : "Attach one to a bay: it is read as soon as it answers."}
          </State>
        ) : (
          <Scroll>
            <Table>
              <thead>
                <tr>
                  <th>drive</th>
                  <th>verdict</th>
                  <th>why</th>
                  <th>model</th>
                  <th className="num">size</th>
                  <th className="num">powered on</th>
                  <th className="num">bay</th>
                  <th>last read</th>
                  <th>signed</th>
                </tr>
              </thead>
              <tbody>
                {drives.data.map((d) => {
                  const [before, ending] = parts(d.serial);
                  return (
                    <tr key={d.serial + d.model}>
                      <td className="serial">
                        <Link to={`/drives/${encodeURIComponent(d.serial)}`}>
                          {before} <b>{ending}</b>
                        </Link>
                      </td>
                      <td>
                        <VerdictWord grade={d.grade} />
                      </td>
                      <td>{d.headline}</td>
                      <td style={{ whiteSpace: "nowrap" }}>{d.model}</td>
                      <td className="num" style={{ whiteSpace: "nowrap" }}>
                        {d.bytes ? size(d.bytes) : <NotAvailable />}
                      </td>
                      <td className="num" style={{ whiteSpace: "nowrap" }}>
                        {d.hours === undefined ? <NotAvailable /> : hours(d.hours)}
                      </td>
                      <td className="num">{d.bay ?? ""}</td>
                      <td style={{ whiteSpace: "nowrap" }}>{d.last_read ? dayOf(d.last_read) : ""}</td>
                      <td>{d.signed ? d.signed.by : <span className="soft">no</span>}</td>
                    </tr>
                  );
                })}
              </tbody>
            </Table>
          </Scroll>
        )}
      </Body>
    </>
  );
}
