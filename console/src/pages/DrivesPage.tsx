import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { Input, Label, Radio, RadioGroup, SearchField } from "react-aria-components";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import { useDrives } from "../data/queries";
import type { Drive, Grade, Medium } from "../data/types";
import { Button, NotAvailable, State, Table, Wrong } from "../parts/basics";
import { dayOf, number, parts, size } from "../parts/format";
import { VerdictWord } from "../parts/marks";
import { hidden } from "../theme/Global";
import { color } from "../theme/tokens";

const Tools = styled.section`
  border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; flex-wrap: wrap; gap: 8px 24px; align-items: center;
  & input { min-height: 44px; width: 320px; max-width: 100%; padding: 0 12px; border: 1px solid ${color.edge}; background: ${color.sheet}; }
  & p { margin-left: auto; color: ${color.ink3}; font-size: 13px; line-height: 18px; }
`;
const Grades = styled(RadioGroup)`
  display: flex; flex-wrap: wrap;
  & > [data-rac] { display: flex; align-items: center; min-height: 44px; padding: 0 12px; cursor: pointer; border: 1px solid ${color.rule}; margin-left: -1px; }
  & > [data-selected] { border-color: ${color.ink}; background: ${color.well}; z-index: 1; }
`;
const rowHeight = 33;
const Body = styled.div`
  padding: 8px 24px 0; height: calc(100vh - 109px); min-height: 320px; overflow: auto;
  & table { table-layout: fixed; min-width: 1180px; }
  & thead th { position: sticky; top: -8px; background: ${color.paper}; z-index: 2; }
  & tbody td { height: ${rowHeight}px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
  & tbody td.gap { padding: 0; border: 0; }
  & tbody tr.drive { position: relative; cursor: pointer; } & tbody tr.drive:hover { background: ${color.well}; }
  & a { text-decoration: none; } & a::after { content: ""; position: absolute; inset: 0; }
  & .serial b { font-size: 18px; letter-spacing: 0.02em; } & .serial { color: ${color.ink3}; } & .serial b { color: ${color.ink}; }
`;

const grades: (Grade | "all")[] = ["all", "replace", "degrading", "healthy", "undecided"];
const isGrade = (g: string | null): g is Grade => g !== null && g !== "all" && (grades as string[]).includes(g);

function Row({ d }: { d: Drive }) {
  const [before, ending] = parts(d.serial);
  return (
    <tr className="drive">
      <td className="serial">
        <Link to={`/drives/${encodeURIComponent(d.serial)}`}>
          {before} <b>{ending}</b>
        </Link>
      </td>
      <td>
        <VerdictWord grade={d.grade} />
      </td>
      <td title={d.headline}>{d.headline}</td>
      <td title={d.model}>{d.model}</td>
      <td className="num">{d.bytes ? size(d.bytes) : <NotAvailable />}</td>
      <td className="num">{d.hours === undefined ? <NotAvailable /> : `${number(d.hours)} h`}</td>
      <td className="num">{d.bay ?? ""}</td>
      <td>{d.last_read ? dayOf(d.last_read) : ""}</td>
      <td>{d.signed ? d.signed.by : <span className="soft">no</span>}</td>
    </tr>
  );
}

/** Every drive that was found, however many: only those in sight are drawn, and more are fetched as somebody scrolls. */
function List({ found, more, fetching }: { found: Drive[]; more: () => void; fetching: boolean }) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({ count: found.length, getScrollElement: () => box.current, estimateSize: () => rowHeight, overscan: 12 });
  const items = rows.getVirtualItems();
  const last = items.at(-1)?.index ?? 0;
  useEffect(() => {
    if (last >= found.length - 40 && !fetching) more();
  }, [last, found.length, fetching, more]);
  const above = items[0]?.start ?? 0;
  const below = rows.getTotalSize() - (items.at(-1)?.end ?? 0);
  return (
    <Body ref={box}>
      <Table aria-rowcount={found.length}>
        <colgroup>
          {["144px", "120px", "auto", "184px", "80px", "104px", "48px", "80px", "80px"].map((width, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: columns do not move
            <col key={i} style={{ width }} />
          ))}
        </colgroup>
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
          {above > 0 && (
            <tr>
              <td className="gap" colSpan={9} style={{ height: above }} />
            </tr>
          )}
          {items.map((item) => {
            const d = found[item.index];
            return d && <Row key={d.serial + d.model} d={d} />;
          })}
          {below > 0 && (
            <tr>
              <td className="gap" colSpan={9} style={{ height: below }} />
            </tr>
          )}
        </tbody>
      </Table>
    </Body>
  );
}

/** All drives the shop has met, found as one types. What is looked for stands in the address. */
export default function DrivesPage() {
  const [search, setSearch] = useSearchParams();
  const [text, setText] = useState(search.get("q") ?? "");
  const asked = search.get("grade");
  const grade = isGrade(asked) ? asked : "all";
  const kind = search.get("kind");
  const medium = kind === "spinning" || kind === "flash" ? (kind as Medium) : undefined;
  const lot = Number(search.get("lot")) || undefined;
  const change = (to: { q?: string; grade?: string; kind?: string; lot?: string }) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(to)) {
      if (value && value !== "all") next.set(name, value);
      else next.delete(name);
    }
    setSearch(next, { replace: true, preventScrollReset: true });
  };
  const drives = useDrives(text, grade === "all" ? undefined : grade, medium, lot);
  if (drives.isError && !drives.data) return <Wrong error={drives.error} retry={() => drives.refetch()} />;
  const found = drives.data?.pages.flat();
  return (
    <>
      <title>Drives · Hylostat</title>
      <h1 style={hidden}>Drives</h1>
      <Tools aria-label="Find">
        <SearchField
          value={text}
          onChange={(q) => {
            setText(q);
            change({ q });
          }}
        >
          <Label style={hidden}>Serial, model, ticket or customer</Label>
          <Input placeholder="Serial, model, ticket or customer" />
        </SearchField>
        <Grades aria-label="Verdict" orientation="horizontal" value={grade} onChange={(g) => change({ grade: g })}>
          {grades.map((g) => (
            <Radio key={g} value={g}>
              {g === "all" ? "all" : <VerdictWord grade={g} />}
            </Radio>
          ))}
        </Grades>
        <Grades aria-label="Kind" orientation="horizontal" value={medium ?? "all"} onChange={(k) => change({ kind: k })}>
          {["all", "spinning", "flash"].map((k) => (
            <Radio key={k} value={k}>
              {k}
            </Radio>
          ))}
        </Grades>
        {lot && <Button onPress={() => change({ lot: "" })}>Lot {lot}: show all</Button>}
        {found && (
          <p role="status">
            {number(found.length)}
            {drives.hasNextPage ? " and more" : ""} found
          </p>
        )}
      </Tools>
      {!found ? (
        <State title="Fetching the drives" />
      ) : found.length === 0 ? (
        <State title="No drive found">
          {text || grade !== "all" || medium || lot
            ? "Type less of it, or choose another verdict or kind."
            : "Attach one to a bay: it is read as soon as it answers."}
        </State>
      ) : (
        <List
          key={`${text} ${grade} ${medium} ${lot}`}
          found={found}
          fetching={drives.isFetchingNextPage}
          more={() => {
            if (drives.hasNextPage) drives.fetchNextPage();
          }}
        />
      )}
    </>
  );
}
