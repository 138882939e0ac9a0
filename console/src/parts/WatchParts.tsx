import { useEffect, useState } from "react";
import { Label, RadioGroup } from "react-aria-components";
import { Link } from "react-router";
import styled, { css } from "styled-components";
import { useWatch, useWatchDraft } from "../data/queries";
import type { Alert, Watched, WatchLoad, WatchPlan, WatchSetting } from "../data/types";
import { color, phone, px, text } from "../theme/tokens";
import { ago } from "./AlertParts";
import { Button, Form, Pair } from "./basics";
import { Choice } from "./Dialogs";
import { bayWords, benchOf, clockOf, dayOf, parts } from "./format";
import { VerdictWord } from "./marks";
import { Pick } from "./Pick";
import { Line } from "./SignIn";
import { days, readings, sayWhen, whenOf } from "./when";

const day = 86_400_000;
const back = 5 * day;
const ahead = 2 * day;
const wide = 280;

/** Places a moment on the strip of a week: five days back, two ahead. */
const placed = (at: string | number, now: Date) =>
  Math.round(((typeof at === "number" ? at : Date.parse(at)) - (now.getTime() - back)) / ((back + ahead) / wide));

const StripSvg = styled.svg`
  overflow: visible; max-width: 100%;
  & .axis { stroke: ${color.edge}; } & .day { stroke: ${color.rule}; } & .read { stroke: ${color.ink}; }
  & .now { stroke: ${color.ink}; stroke-width: 2; }
  & .test { stroke: ${color.ink}; stroke-width: 3; } & .ahead { stroke: ${color.edge}; }
  & .next { stroke: ${color.accent}; stroke-width: 3; }
  & .was { fill: ${color.ink}; } & .comes { fill: ${color.edge}; } & .limit { stroke: ${color.ink2}; stroke-dasharray: 4 3; }
  & .missed { fill: none; stroke: ${color.ink}; stroke-width: 1.5; } & .alert { fill: ${color.ink}; }
`;

/** The week of a watched drive: what was read, what was missed, what comes, where an alert was. */
export function Strip({ watched, alerts, now }: { watched: Watched; alerts: Alert[]; now: Date }) {
  const today = new Date(now);
  today.setHours(0, 0, 0, 0);
  const days = Array.from({ length: 7 }, (_, i) => placed(today.getTime() + (i - 5) * day, now)).filter((x) => x >= 0 && x <= wide);
  const inside = (at: string) => {
    const x = placed(at, now);
    return x >= 0 && x <= wide ? x : undefined;
  };
  const xs = (all: string[] = []) => [...new Set(all.map(inside).filter((x) => x !== undefined))];
  const next = watched.ahead?.[0];
  const tests = watched.comes.filter((c) => c.task !== "reading" && c.done).map((c) => c.done as string);
  const reads = watched.read ?? [];
  const then = next ? `, next ${dayOf(next.at)} ${clockOf(next.at)}` : "";
  return (
    <StripSvg
      width={wide}
      height="44"
      viewBox={`0 0 ${wide} 44`}
      role="img"
      aria-label={`${reads.length} readings in 7 days, ${watched.missed.length} missed${then}`}
    >
      {days.map((x) => (
        <line key={x} className="day" x1={x} x2={x} y1="8" y2="38" />
      ))}
      <line className="axis" x1="0" x2={wide} y1="36" y2="36" />
      {xs(reads).map((x) => (
        <line key={x} className="read" x1={x} x2={x} y1="28" y2="36" />
      ))}
      {xs(tests).map((x) => (
        <line key={`t${x}`} className="test" x1={x} x2={x} y1="20" y2="36" />
      ))}
      {xs(watched.missed).map((x) => (
        <rect key={`m${x}`} className="missed" x={x - 2} y="24" width="4" height="12" />
      ))}
      {xs(watched.ahead?.map((a) => a.at)).map((x) => (
        <line key={`a${x}`} className="ahead" x1={x} x2={x} y1="31" y2="36" />
      ))}
      {next && <line className="next" x1={placed(next.at, now)} x2={placed(next.at, now)} y1="26" y2="36" />}
      {xs(alerts.map((a) => a.moved)).map((x) => (
        <path key={`l${x}`} className="alert" d={`M${x - 5} 10H${x + 5}L${x} 17Z`} />
      ))}
      <line className="now" x1={placed(now.getTime(), now)} x2={placed(now.getTime(), now)} y1="14" y2="40" />
    </StripSvg>
  );
}

/** A row of the watch on a phone: what it is beside what it says, and the strip below both. */
const stacked = css`
  @media (max-width: ${phone}px) { display: grid; grid-template-columns: 112px minmax(0, 1fr); border-bottom: 1px solid ${color.rule};
    & td { border: 0; padding: 4px 8px 4px 0; } & td:empty { display: none; }
    & td.strip { grid-column: 1 / 3; width: auto; } & td.num { text-align: left; } }
`;
const LoadRow = styled.tr`
  & td { vertical-align: middle; border-bottom-color: ${color.edge}; } & b { font-weight: 600; } & .first { ${text.body} font-weight: 600; }
  ${stacked}
`;
const most = 20;

/** How many drives the plans have busy at once, hour by hour; the line is what a plan allows. */
export function LoadStrip({ load }: { load: WatchLoad }) {
  const top = Math.max(load.limit, ...load.busy, 1);
  const high = (n: number) => Math.round((n * most) / top);
  const step = wide / load.busy.length;
  const ahead = load.busy.slice(load.now);
  const [least, peak] = [Math.min(...ahead), Math.max(...ahead)];
  return (
    <LoadRow>
      <td className="first">All plans</td>
      <td>
        Busy at once: <b>{least === peak ? peak : `${least} to ${peak}`}</b>, limit {load.limit}
      </td>
      <td className="strip">
        <StripSvg
          width={wide}
          height="24"
          viewBox={`0 0 ${wide} 24`}
          role="img"
          aria-label={`drives busy at once in the next 2 days: ${least} to ${peak}, of ${load.limit} that a plan allows`}
        >
          {load.busy.map(
            (n, hour) =>
              n > 0 && (
                <rect
                  // biome-ignore lint/suspicious/noArrayIndexKey: an hour is its place
                  key={hour}
                  className={hour < load.now ? "was" : "comes"}
                  x={hour * step}
                  y={22 - high(n)}
                  width={Math.ceil(step)}
                  height={high(n)}
                />
              ),
          )}
          <line className="axis" x1="0" x2={wide} y1="22.5" y2="22.5" />
          <line className="limit" x1="0" x2={wide} y1={22.5 - high(load.limit)} y2={22.5 - high(load.limit)} />
          <line className="now" x1={load.now * step} x2={load.now * step} y1="0" y2="24" />
        </StripSvg>
      </td>
      <td />
      <td />
    </LoadRow>
  );
}

/** Where a watched drive is. */
const place = (w: Watched) =>
  w.bay ? (benchOf(w.bay) ? `${benchOf(w.bay)}, ${bayWords(w.bay.split("/")[1] ?? "")}` : bayWords(w.bay)) : "not here";

/** When something is next: today by the clock alone. */
const soon = (at: string, now: Date) => (dayOf(at) === dayOf(now) ? clockOf(at) : `${dayOf(at)} ${clockOf(at)}`);

const Row = styled.tr`
  & td { vertical-align: top; padding-top: 8px; padding-bottom: 8px; }
  & a { font-size: ${px.title}; line-height: 26px; font-weight: 600; letter-spacing: 0.02em; text-decoration: none; display: block; }
  & td.num { white-space: nowrap; }
  & small { display: block; ${text.small} color: ${color.ink2}; } & .strong { font-weight: 600; color: ${color.ink}; }
  & button { background: none; border: 0; padding: 0; text-align: left; cursor: pointer; text-decoration: underline;
    text-decoration-color: ${color.edge}; text-underline-offset: 3px; min-height: 24px; }
  & td b { white-space: nowrap; }
  ${stacked}
`;

/** A watched drive: by which plan, its week, what is next, how warm it is. */
export function WatchedRow({ w, alerts, now, edit }: { w: Watched; alerts: Alert[]; now: Date; edit: () => void }) {
  const whole = useWatch(w.serial).data ?? w;
  const next = w.comes.flatMap((c) => (c.next ? [{ title: c.title, at: c.next }] : [])).sort((a, b) => a.at.localeCompare(b.at))[0];
  const missed = w.missed.length > 1;
  return (
    <Row>
      <td>
        <Link to={`/drives/${encodeURIComponent(w.serial)}`} title={w.serial}>
          {parts(w.serial)[1]}
        </Link>
        <small>
          <VerdictWord grade={w.grade} />
        </small>
        <small>{place(w)}</small>
      </td>
      <td>
        <button type="button" onClick={edit} aria-label={`${w.words.words}: change the plan of ${w.serial}`}>
          {w.words.words}
        </button>
        <small>plan of {w.name.words}</small>
        {w.keeps && <small className="strong">{w.keeps.words}</small>}
        {w.never.length > 0 && <small className="strong">{w.never.join(", ").replaceAll("_", " ")}: longer than any window</small>}
      </td>
      <td className="strip">
        <Strip watched={whole} alerts={alerts} now={now} />
      </td>
      <td>
        {next ? (
          <span title={next.title}>
            {next.title === "reading" ? "next" : next.title} <b>{soon(next.at, now)}</b>
          </span>
        ) : (
          "nothing due"
        )}
        {missed && <small className="strong">{w.missed.length} readings missed</small>}
        <small>
          {w.asleep ? "asleep, " : ""}
          {w.told ? `read ${ago(w.told, now)} ago` : "not read yet"}
        </small>
      </td>
      <td className="num">{w.temperature === undefined ? <span className="soft">not told</span> : `${w.temperature} °C`}</td>
    </Row>
  );
}

/** The plans whose drives are watched, as they are said. */
export const nameOf = (p: WatchPlan) => p.name.words;

const Says = styled.div`
  border-left: 4px solid ${color.accent}; background: ${color.well}; padding: 8px 12px; & small { ${text.small} color: ${color.ink2}; }
`;
const Box = styled.section`
  background: ${color.sheet}; border: 1px solid ${color.rule}; border-top: 2px solid ${color.accent}; padding: 12px 16px 16px;
  & h2 { ${text.large} } & .react-aria-Label { display: block; ${text.small} color: ${color.ink2}; margin-bottom: 4px; }
  & input { width: 100%; min-height: 44px; padding: 8px; border: 1px solid ${color.edge}; background: ${color.paper}; }
  & p { color: ${color.ink2}; } & footer { display: flex; gap: 8px; flex-wrap: wrap; & > button { padding: 0 12px; } }
    & form { margin-top: 12px; }
`;

/** For whom a plan can be. */
export type For = "drive" | "bench" | "duty";

/** A value once it has stayed as it is for some milliseconds. */
function useSettled<T>(value: T, ms: number) {
  const [still, set] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => set(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return still;
}

/** How often drives are read. */
function ReadEvery({ value, onChange }: { value?: string; onChange: (value?: string) => void }) {
  const known = readings.some(([every]) => every === value);
  const options = known || !value ? readings : [...readings, [value, value] as const];
  return <Pick label="Read" value={value ?? "6h"} options={options} onChange={onChange} />;
}

/** When a self-test or a sweep recurs. */
function Recurs({ label, value, onChange }: { label: string; value?: string; onChange: (value?: string) => void }) {
  const when = whenOf(value);
  const options = [...days, ["own", "by a rule of its own"] as const];
  const choose = (on: string) =>
    onChange(
      sayWhen(on === "own" ? { on, at: value ?? "FREQ=WEEKLY;BYDAY=SU,WE;BYHOUR=3" } : { on, at: when.on === "own" ? "03:00" : when.at }),
    );
  return (
    <Pair>
      <Pick label={label} value={when.on} options={options} onChange={choose} />
      {when.on === "own" ? (
        <Line label="rule" aria-label={`${label}, rule`} value={when.at} onChange={(at) => onChange(at || undefined)} maxLength={200} />
      ) : (
        when.on !== "" && (
          <Line
            label="at"
            aria-label={`${label}, at`}
            value={when.at}
            onChange={(at) => onChange(sayWhen({ on: when.on, at: at || "03:00" }))}
            type="time"
          />
        )
      )}
    </Pair>
  );
}

/** After how many days a drive that sleeps is woken. */
function sleepers(days = 0) {
  const all = [0, 1, 3, 7, 14, 30].includes(days) ? [0, 1, 3, 7, 14, 30] : [0, 1, 3, 7, 14, 30, days].sort((a, b) => a - b);
  return all.map((n) => [String(n), n === 0 ? "sleeps on" : `woken after ${n} d`] as const);
}

/** A plan in its parts: what is asked of drives, and when. */
export function PlanForm({
  was,
  benches,
  save,
  end,
  close,
  wrong,
  busy,
}: {
  was?: WatchPlan;
  benches: { name: string; title: string }[];
  save: (plan: WatchSetting) => void;
  end?: () => void;
  close: () => void;
  wrong?: string;
  busy: boolean;
}) {
  const [p, set] = useState<WatchSetting>(was?.plan ?? { for: {}, read: "6h", zone: Intl.DateTimeFormat().resolvedOptions().timeZone });
  const [kind, setKind] = useState<For>("drive");
  const change = (some: Partial<WatchSetting>) => set((before) => ({ ...before, ...some }));
  const still = useSettled(p, 300);
  const named = was !== undefined || p.for.bench !== undefined || p.for.duty !== undefined || (p.for.drive ?? "").length >= 5;
  const draft = useWatchDraft(still, named);
  const window = p.windows?.[0];
  const forWhom = (k: string) => {
    setKind(k as For);
    change({ for: {} });
  };
  return (
    <Box aria-label={was ? `Plan of ${nameOf(was)}` : "A new plan"}>
      <h2>{was ? `Plan of ${nameOf(was)}` : "Watch a drive"}</h2>
      <p>
        {was ? `By ${was.by}, ${dayOf(was.at)}. The narrowest plan counts.` : "What is asked of it, and when. The narrowest plan counts."}
      </p>
      <Form
        onSubmit={(e) => {
          e.preventDefault();
          save(p);
        }}
      >
        {!was && (
          <>
            <RadioGroup value={kind} onChange={forWhom}>
              <Label>For</Label>
              <Choice value="drive">one drive</Choice>
              <Choice value="bench">all drives of a bench</Choice>
              <Choice value="duty">all drives of a duty</Choice>
            </RadioGroup>
            {kind === "drive" && (
              <Line label="Serial" value={p.for.drive ?? ""} onChange={(drive) => change({ for: { drive } })} maxLength={100} autoFocus />
            )}
            {kind === "bench" && (
              <RadioGroup value={p.for.bench ?? null} onChange={(bench) => change({ for: { bench } })}>
                <Label>Bench</Label>
                {benches.map((b) => (
                  <Choice key={b.name} value={b.name}>
                    {b.title || "the shop's own bench"}
                  </Choice>
                ))}
              </RadioGroup>
            )}
            {kind === "duty" && (
              <RadioGroup value={p.for.duty ?? null} onChange={(duty) => change({ for: { duty: duty as WatchSetting["for"]["duty"] } })}>
                <Label>Duty</Label>
                {["continuous", "archive", "everyday", "carry"].map((d) => (
                  <Choice key={d} value={d}>
                    {d}
                  </Choice>
                ))}
              </RadioGroup>
            )}
          </>
        )}
        <Pair>
          <ReadEvery value={p.read} onChange={(read) => change({ read })} />
          <Line
            label="At once (3 when empty)"
            value={p.at_once ? String(p.at_once) : ""}
            onChange={(n) => change({ at_once: Number(n) || undefined })}
            inputMode="numeric"
            maxLength={3}
          />
        </Pair>
        <Recurs label="Short self-test" value={p.short} onChange={(short) => change({ short })} />
        <Recurs label="Extended self-test" value={p.extended} onChange={(extended) => change({ extended })} />
        <Recurs label="Spot sweep" value={p.spot} onChange={(spot) => change({ spot })} />
        <Recurs label="Whole sweep" value={p.whole} onChange={(whole) => change({ whole })} />
        <Pair>
          <Line
            label="Tests and sweeps from"
            value={window?.from ?? ""}
            onChange={(from) => change({ windows: from ? [{ ...window, from, until: window?.until ?? "06:00" }] : undefined })}
            type="time"
          />
          <Line
            label="until"
            value={window?.until ?? ""}
            onChange={(until) => change({ windows: until ? [{ ...window, until, from: window?.from ?? "01:00" }] : undefined })}
            type="time"
          />
        </Pair>
        <Pair>
          <Pick
            label="A drive that sleeps"
            value={String(p.wake_after ?? 0)}
            options={sleepers(p.wake_after)}
            onChange={(n) => change({ wake_after: Number(n) || undefined })}
          />
          <Line label="Time zone" value={p.zone ?? ""} onChange={(zone) => change({ zone: zone || undefined })} maxLength={60} />
        </Pair>
        {named && draft.data && (
          <Says role="status">
            <small>That is</small>
            <p>{draft.data.words.words}</p>
            <small>{draft.data.comes_to.words}</small>
            {draft.data.never.length > 0 && (
              <small className="strong">{draft.data.never.join(", ").replaceAll("_", " ")}: longer than any window</small>
            )}
          </Says>
        )}
        {(wrong ?? draft.error?.message) && <p role="alert">{wrong ?? draft.error?.message}</p>}
        <footer>
          <Button $filled type="submit" isDisabled={busy}>
            Save the plan
          </Button>
          <Button onPress={close}>Close</Button>
          {end && <Button onPress={end}>End it</Button>}
        </footer>
      </Form>
    </Box>
  );
}

/** How a drive is watched, on its own page. */
export function WatchNow({ w, alerts, now }: { w: Watched; alerts: Alert[]; now: Date }) {
  const next = w.ahead?.[0];
  return (
    <Says>
      <p>
        <b>{w.words.words}</b>
      </p>
      <small>
        plan of {w.name.words}
        {w.told && `, read ${ago(w.told, now)} ago`}
        {next && `, next ${soon(next.at, now)}`}
        {w.keeps && `; ${w.keeps.words}`}
      </small>
      <Strip watched={w} alerts={alerts} now={now} />
    </Says>
  );
}
