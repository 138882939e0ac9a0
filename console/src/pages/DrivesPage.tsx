import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef, useState } from "react";
import { Input, Label, Radio, RadioGroup, SearchField } from "react-aria-components";
import { Link, useSearchParams } from "react-router";
import styled from "styled-components";
import { apiPath } from "../data/base";
import { type Looked, useDrives } from "../data/queries";
import type { Grade, ListedDrive, Medium } from "../data/types";
import { Badge } from "../parts/AlertParts";
import { Button, LinkButton, NotAvailable, State, Table, Wrong } from "../parts/basics";
import { OneOf } from "../parts/CheckMenu";
import { bayShort, dayOf, number, parts, size } from "../parts/format";
import { VerdictWord } from "../parts/marks";
import { Together } from "../parts/Together";
import { hidden } from "../theme/Global";
import { color, px, text } from "../theme/tokens";
import { useActions } from "./Shell";

const Tools = styled.section`
  border-bottom: 1px solid ${color.rule}; padding: 8px 24px; display: flex; flex-wrap: wrap; gap: 8px 12px; align-items: center;
  & input { min-height: 44px; width: 256px; max-width: 100%; padding: 0 12px; border: 1px solid ${color.edge}; background: ${color.sheet}; }
  & .end { margin-left: auto; display: flex; gap: 12px; align-items: center; } & p { color: ${color.ink3}; ${text.small} }
`;
const Grades = styled(RadioGroup)`
  display: flex; flex-wrap: wrap;
  & > [data-rac] { display: flex; align-items: center; min-height: 44px; padding: 0 12px; cursor: pointer;
    border: 1px solid ${color.rule}; margin-left: -1px; }
  & > [data-selected] { border-color: ${color.ink}; background: ${color.well}; z-index: 1; }
`;
const Page = styled.div`display: flex; flex-direction: column; height: calc(100vh - 48px);`;
const rowHeight = 33;
const Body = styled.div`
  padding: 8px 24px 0; flex: 1; min-height: 320px; overflow: auto;
  & table { table-layout: fixed; min-width: 1180px; }
  & thead th { position: sticky; top: -8px; background: ${color.paper}; z-index: 2; }
  & tbody td { height: ${rowHeight}px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
  & tbody td.gap { padding: 0; border: 0; }
  & tbody tr.drive { position: relative; cursor: pointer; } & tbody tr.drive:hover { background: ${color.well}; }
  & a { text-decoration: none; } & a::after { content: ""; position: absolute; inset: 0; }
  & .choose { padding: 0; vertical-align: middle; }
  & input { position: relative; z-index: 1; width: 20px; height: 20px; margin: 0; display: block; accent-color: ${color.accent}; }
  & .serial b { font-size: ${px.large}; letter-spacing: 0.02em; } & .serial { color: ${color.ink3}; } & .serial b { color: ${color.ink}; }
`;

const grades: (Grade | "all")[] = ["all", "replace", "degrading", "healthy", "undecided"];
const isGrade = (g: string | null): g is Grade => g !== null && g !== "all" && (grades as string[]).includes(g);

/** How long a drive was powered on, in years of hours. */
const ages: { id: string; name: string; about?: string; from?: number; to?: number }[] = [
  { id: "all", name: "any" },
  { id: "0-1", name: "under 1 year", about: "powered on for less than 8 760 h", to: 8760 },
  { id: "1-3", name: "1 to 3 years", about: "powered on for 8 760 to 26 280 h", from: 8760, to: 3 * 8760 },
  { id: "3-5", name: "3 to 5 years", about: "powered on for 26 280 to 43 800 h", from: 3 * 8760, to: 5 * 8760 },
  { id: "5-", name: "over 5 years", about: "powered on for 43 800 h and more", from: 5 * 8760 },
];

const kinds = [
  { id: "all", name: "any" },
  { id: "spinning", name: "spinning" },
  { id: "flash", name: "flash" },
];

function Row({ d, chosen, choose }: { d: ListedDrive; chosen: boolean; choose: (serial: string) => void }) {
  const [before, ending] = parts(d.serial);
  return (
    <tr className="drive">
      <td className="choose">
        <input type="checkbox" aria-label={`Choose ${d.serial}`} checked={chosen} onChange={() => choose(d.serial)} />
      </td>
      <td className="serial">
        <Link to={`/drives/${encodeURIComponent(d.serial)}`}>
          {before} <b>{ending}</b>
        </Link>
      </td>
      <td>
        <VerdictWord grade={d.grade} />
        <Badge alerts={d.alerts ?? 0} loud words="nobody has settled them" />
      </td>
      <td title={d.headline}>
        {d.known ? <span className="soft">known: </span> : ""}
        {d.headline}
      </td>
      <td title={d.model}>{d.model}</td>
      <td className="num">{d.bytes ? size(d.bytes) : <NotAvailable />}</td>
      <td className="num">{d.hours === undefined ? <NotAvailable /> : `${number(d.hours)} h`}</td>
      <td className="num">{bayShort(d.bay ?? "")}</td>
      <td title={d.ticket}>{d.ticket}</td>
      <td title={d.customer}>{d.customer}</td>
      <td>{d.last_read ? dayOf(d.last_read) : ""}</td>
      <td>{d.signed ? d.signed.by : <span className="soft">no</span>}</td>
    </tr>
  );
}

/** Every drive that was found, however many: only those in sight are drawn, and more are fetched as somebody scrolls. */
function List({
  found,
  more,
  fetching,
  chosen,
  choose,
}: {
  found: ListedDrive[];
  more: () => void;
  fetching: boolean;
  chosen: ReadonlySet<string>;
  choose: (serials: string[], on: boolean) => void;
}) {
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
          {["36px", "140px", "136px", "auto", "152px", "72px", "92px", "72px", "60px", "128px", "72px", "56px"].map((width, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: columns do not move
            <col key={i} style={{ width }} />
          ))}
        </colgroup>
        <thead>
          <tr>
            <th className="choose">
              <input
                type="checkbox"
                aria-label="Choose all that are fetched"
                checked={found.every((d) => chosen.has(d.serial))}
                onChange={(e) =>
                  choose(
                    found.map((d) => d.serial),
                    e.target.checked,
                  )
                }
              />
            </th>
            <th>drive</th>
            <th>verdict</th>
            <th>why</th>
            <th>model</th>
            <th className="num">size</th>
            <th className="num">powered on</th>
            <th className="num">bay</th>
            <th>ticket</th>
            <th>customer</th>
            <th>last read</th>
            <th>signed</th>
          </tr>
        </thead>
        <tbody>
          {above > 0 && (
            <tr>
              <td className="gap" colSpan={10} style={{ height: above }} />
            </tr>
          )}
          {items.map((item) => {
            const d = found[item.index];
            return (
              d && (
                <Row
                  key={d.serial + d.model}
                  d={d}
                  chosen={chosen.has(d.serial)}
                  choose={(serial) => choose([serial], !chosen.has(serial))}
                />
              )
            );
          })}
          {below > 0 && (
            <tr>
              <td className="gap" colSpan={10} style={{ height: below }} />
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
  const { asPerson } = useActions();
  const [text, setText] = useState(search.get("q") ?? "");
  const asked = search.get("grade");
  const grade = isGrade(asked) ? asked : "all";
  const kind = search.get("kind");
  const medium = kind === "spinning" || kind === "flash" ? (kind as Medium) : undefined;
  const lot = Number(search.get("lot")) || undefined;
  const age = ages.find((a) => a.id === search.get("age")) ?? ages[0];
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const choose = (serials: string[], on: boolean) =>
    setChosen((before) => {
      const next = new Set(before);
      for (const serial of serials) {
        if (on) next.add(serial);
        else next.delete(serial);
      }
      return next;
    });
  const change = (to: { q?: string; grade?: string; kind?: string; lot?: string; age?: string }) => {
    const next = new URLSearchParams(search);
    for (const [name, value] of Object.entries(to)) {
      if (value && value !== "all") next.set(name, value);
      else next.delete(name);
    }
    setSearch(next, { replace: true, preventScrollReset: true });
    setChosen(new Set()); // nobody signs what is not on the list any more
  };
  const by: Looked = {
    q: text || undefined,
    grade: grade === "all" ? undefined : grade,
    medium,
    lot,
    from_hours: age?.from,
    to_hours: age?.to,
  };
  const drives = useDrives(by);
  if (drives.isError && !drives.data) return <Wrong error={drives.error} retry={() => drives.refetch()} />;
  const found = drives.data?.pages.flatMap((p) => p.rows);
  return (
    <Page>
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
        <OneOf label="Kind" options={kinds} value={medium ?? "all"} choose={(k) => change({ kind: k })} />
        <OneOf label="Age" options={ages} value={age?.id ?? "all"} choose={(id) => change({ age: id })} />
        {lot && <Button onPress={() => change({ lot: "" })}>Lot {lot}: show all</Button>}
        {found && (
          <div className="end">
            <p role="status">
              {number(found.length)}
              {drives.hasNextPage ? " and more" : ""} found
            </p>
            <LinkButton
              href={apiPath(
                `/drives.csv?${new URLSearchParams(Object.entries(by).flatMap(([k, v]) => (v === undefined ? [] : [[k, String(v)]])))}`,
              )}
              download="drives.csv"
            >
              CSV
            </LinkButton>
          </div>
        )}
      </Tools>
      {chosen.size > 0 && <Together asPerson={asPerson} chosen={[...chosen]} none={() => setChosen(new Set())} />}
      {!found ? (
        <State title="Fetching the drives" />
      ) : found.length === 0 ? (
        <State title="No drive found">
          {Object.values(by).some((v) => v !== undefined)
            ? "Type less of it, or choose another verdict, kind or age."
            : "Attach one to a bay: it is read as soon as it answers."}
        </State>
      ) : (
        <List
          key={JSON.stringify(by)}
          chosen={chosen}
          choose={choose}
          found={found}
          fetching={drives.isFetchingNextPage}
          more={() => {
            if (drives.hasNextPage) drives.fetchNextPage();
          }}
        />
      )}
    </Page>
  );
}
