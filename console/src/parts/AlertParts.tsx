import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import styled, { css } from "styled-components";
import { useSignals } from "../data/queries";
import type { Accepted, Alert, Message, Route } from "../data/types";
import { color, narrow, px, text } from "../theme/tokens";
import { Button } from "./basics";
import { bayWords, benchOf, capital, clockOf, count, dayOf, number, parts, quantity } from "./format";
import { gradeColor, gradeTint, VerdictMark } from "./marks";
import { axisOf, plot } from "./SignalFigure";

/** What an alert is about, drawn: it stands beside the words that say it. */
const glyphs: Record<Alert["kind"], string> = {
  verdict: "M2 13L6 9L9 11L14 3M10 3H14V7",
  signal: "M2 13H6V9H10V5H14V2",
  heat: "M6 10V3a2 2 0 1 1 4 0V10a3 3 0 1 1-4 0",
  self_test: "M2 2H14V14H2ZM5 5L11 11M11 5L5 11",
  sweep: "M2 5H14M2 9H8M12 9H14M2 13H14",
  vanished: "M1 8H5M11 8H15M6 3V13M10 3V13",
  unread: "M1 8H5M11 8H15M6 4V12M10 4V12",
  hangs: "M1 8H11M7 4L11 8L7 12M14 2V14",
  run_ended: "M3 15V2H13L10 5.5L13 9H3",
  bench_silent: "M2 5H14V8H2ZM4 8V14M12 8V14",
  bench_pulled: "M2 5H14V8H2ZM4 8V14M12 8V14M8 1V4",
  disk_full: "M2 3H14V13H2ZM2 9H14",
  backup_late: "M8 3V8L11 11M8 1a7 7 0 1 1-6 4",
  replica_late: "M2 2H9V9H2ZM7 11V14H14V7H11",
  route_failed: "M2 4H14V12H2ZM2 4L8 9L14 4M4 15L12 1",
  clock_moved: "M8 4V8L11 10M8 1a7 7 0 1 1-.1 0",
};

export function AlertGlyph({ kind }: { kind: Alert["kind"] }) {
  return (
    <svg width="16" height="16" viewBox="0 0 16 16" fill="none" stroke="currentColor" strokeWidth="2" aria-hidden="true">
      <path d={glyphs[kind]} />
    </svg>
  );
}

/** How long ago something was, in one word or two. */
export function ago(at: string, now: Date): string {
  const min = Math.max(0, Math.round((now.getTime() - Date.parse(at)) / 60_000));
  if (min < 60) return `${min} min`;
  if (min < 48 * 60) return `${Math.round(min / 60)} h`;
  return count(Math.round(min / 1440), "day", "days");
}

/** When something was: the time of today, else the day. */
export const whenShort = (at: string, now: Date) =>
  now.getTime() - Date.parse(at) < 20 * 3_600_000 ? clockOf(at) : `${dayOf(at)}, ${clockOf(at)}`;

/** How an alert stands, in a few words. */
export function standsOf(a: Alert): string {
  if (a.state === "taken") return `${a.by} looks after it`;
  if (a.state === "open") return "open";
  return a.by ? `settled by ${a.by}` : "over";
}

/** An alert's drive as it was then. */
export const thenOf = (a: Alert) =>
  a.serial ? `/drives/${encodeURIComponent(a.serial)}${a.reading ? `?reading=${a.reading}` : ""}` : undefined;

const Row = styled.li<{ $now: boolean }>`
  display: grid; grid-template-columns: 48px 120px minmax(0, 1fr) 104px 96px 112px; gap: 0 16px; border-bottom: 1px solid ${color.rule};
  min-height: 76px; position: relative; ${({ $now }) => $now && css`box-shadow: inset 4px 0 ${color.accent}; background: ${color.sheet};`}
  & > .mark { display: grid; place-items: center; }
  & > div { padding: 8px 0; min-width: 0; }
  & > .mark { padding: 0; }
  & .name { font-size: ${px.title}; line-height: 26px; font-weight: 600; letter-spacing: 0.02em; text-decoration: none; display: block; }
  & .name.word { letter-spacing: 0; }
  & small { display: block; ${text.small} color: ${color.ink2}; }
  & .said { display: flex; gap: 8px; align-items: flex-start; & svg { margin-top: 3px; } }
  & .told { ${text.small} color: ${color.ink3}; margin-top: 2px; } & .told b { color: ${color.ink}; }
  & .age { ${text.large} font-weight: 600; white-space: nowrap; }
  & .act { display: flex; align-items: center; justify-content: flex-end; }
  @media (max-width: ${narrow}px) { grid-template-columns: 48px minmax(0, 1fr) auto; gap: 0 12px;
    & > .mark { grid-row: 1 / span 3; } & > .what { grid-column: 2 / 4; grid-row: 2; padding-top: 0; }
    & > .spark { display: none; }
    & > .since { grid-column: 2; grid-row: 3; padding-top: 0; display: flex; gap: 8px; align-items: baseline; }
    & > .act { grid-row: 3; padding: 0 0 8px; } }
`;

const SparkBox = styled.figure`
  width: 96px;
  & svg { overflow: visible; } & path { fill: none; stroke: ${color.ink}; stroke-width: 3; } & circle { fill: ${color.ink}; }
  & line { stroke: ${color.edge}; stroke-width: 2; } & .limit { stroke: ${color.ink2}; stroke-dasharray: 8 8; }
  & figcaption { ${text.small} color: ${color.ink2}; white-space: nowrap; }
`;

/** The course of the signal an alert is about, up to now. */
function Spark({ alert }: { alert: Alert }) {
  const signals = useSignals(alert.serial ?? "").data;
  const signal = signals?.signals.find((s) => s.name === alert.name);
  if (!signals || !signal || signal.values.length < 2) return null;
  const p = plot(signal, axisOf(signals), []);
  const last = p.dots.at(-1);
  const words = (x: number) => quantity(x, signal.unit)[0];
  return (
    <SparkBox>
      <svg width="96" height="28" viewBox="0 60 192 56" aria-hidden="true">
        <line x1="0" x2="192" y1="113" y2="113" />
        {p.limit !== undefined && <line className="limit" x1="0" x2="192" y1={p.limit} y2={p.limit} />}
        <path d={p.path} />
        {last && <circle cx={last.x} cy={last.y} r="6" />}
      </svg>
      <figcaption>
        {words(alert.before)} → {words(alert.level)}
      </figcaption>
    </SparkBox>
  );
}

/** Whom an alert was told, in one line; what failed stands out. */
export function Told({ told, now }: { told?: Message[]; now: Date }) {
  const latest = new Map<string, Message>();
  for (const m of told ?? []) if (!latest.has(m.route)) latest.set(m.route, m);
  const all = [...latest.values()].filter((m) => m.state !== "dropped");
  if (all.length === 0) return null;
  const words = (m: Message) =>
    m.state === "sent" ? whenShort(m.ended ?? m.due, now) : m.state === "waiting" && !m.tries ? `at ${whenShort(m.due, now)}` : "failed";
  return (
    <p className="told">
      {all.map((m, i) => (
        <span key={m.id}>
          {i > 0 && " · "}
          {words(m) === "failed" ? (
            <b title={m.why}>{m.route} failed</b>
          ) : all[i + 1] && words(all[i + 1] as Message) === words(m) ? (
            m.route // the time stands with the last of that time
          ) : (
            `${m.route} ${words(m)}`
          )}
        </span>
      ))}
    </p>
  );
}

function Name({ alert }: { alert: Alert }) {
  const to = thenOf(alert);
  const bay = alert.bay && (benchOf(alert.bay) ? `${benchOf(alert.bay)}, ${bayWords(alert.bay.split("/")[1] ?? "")}` : bayWords(alert.bay));
  if (!alert.serial || !to) return <b className="name word">{capital(alert.of.words.replace(/^the /, ""))}</b>;
  return (
    <>
      <Link className="name" to={to} title={`${alert.serial}, as it was then`}>
        {parts(alert.serial)[1]}
      </Link>
      {alert.grade && <small style={{ color: gradeColor[alert.grade], fontWeight: 600 }}>{alert.grade}</small>}
      <small>{bay ?? "not here"}</small>
    </>
  );
}

/** One alert: what it is about, what changed, who was told, how old it is, and the one thing to do. */
export function AlertRow({ alert, now, current, children }: { alert: Alert; now: Date; current: boolean; children: ReactNode }) {
  const grade = alert.grade ?? "undecided";
  const tint = !alert.serial ? color.well : alert.kind === "verdict" && grade === "replace" ? color.replace : gradeTint[grade];
  return (
    <Row $now={current} aria-current={current || undefined} data-alert={alert.id}>
      <div className="mark" style={{ background: tint }}>
        {alert.serial ? (
          <VerdictMark grade={grade} size={28} fill={tint === color.replace ? color.on : undefined} />
        ) : (
          <AlertGlyph kind={alert.kind} />
        )}
      </div>
      <div>
        <Name alert={alert} />
      </div>
      <div className="what">
        <p className="said">
          <AlertGlyph kind={alert.kind} />
          <span>
            {capital(alert.words.words)}
            {alert.count > 1 && <small style={{ display: "inline" }}> · {number(alert.count)} times</small>}
          </span>
        </p>
        {alert.note && <small>“{alert.note}”</small>}
        <Told told={alert.told} now={now} />
      </div>
      <div className="spark">{alert.serial && alert.name && <Spark alert={alert} />}</div>
      <div className="since">
        <p className="age">{ago(alert.ended ?? alert.moved, now)}</p>
        <small>{alert.state === "open" ? `since ${whenShort(alert.moved, now)}` : alert.by ? alert.by : "ended by itself"}</small>
      </div>
      <div className="act">{children}</div>
    </Row>
  );
}

export const Rows = styled.ul`border-top: 1px solid ${color.edge};`;

const Level = styled.li`
  border-bottom: 1px solid ${color.rule}; padding: 8px 0 12px;
  & p { display: flex; gap: 8px; align-items: baseline; flex-wrap: wrap; } & p a { text-decoration: none; font-weight: 600;
    letter-spacing: 0.02em; ${text.large} }
  & .end { margin-left: auto; } & small { ${text.small} color: ${color.ink2}; }
  & .tape { height: 6px; background: ${color.well}; border-right: 2px solid ${color.ink}; margin: 4px 0; position: relative; }
  & .tape i { display: block; height: 6px; background: ${color.ink2}; } & .over i { background: ${color.replace}; }
  & button { background: none; border: 0; min-height: 32px; padding: 0; cursor: pointer; ${text.small}; font-weight: 600;
    text-decoration: underline; text-decoration-color: ${color.edge}; text-underline-offset: 3px; }
`;

/** A flaw that is known: how much of the level up to which it is quiet is used. */
export function AcceptedRow({ a, end }: { a: Accepted; end?: () => void }) {
  const words = (x: number) => quantity(x, a.unit).join(" ").trim();
  const used = a.level > 0 ? (a.now ?? 0) / a.level : 1;
  return (
    <Level>
      <p>
        <Link to={`/drives/${encodeURIComponent(a.serial)}`}>{parts(a.serial)[1]}</Link>
        <span>{a.words}</span>
        <span className="end">{a.now === undefined ? "not given any more" : `now ${words(a.now)}`}</span>
      </p>
      <div className={a.passed ? "tape over" : "tape"} aria-hidden="true">
        <i style={{ width: `${Math.min(100, used * 100)}%` }} />
      </div>
      <p>
        <small>
          {a.by}
          {a.until ? `, until ${dayOf(a.until)}` : ""}: {a.reason}
        </small>
        <b className="end" style={{ fontSize: px.small }}>
          {a.passed ? `passed ${words(a.level)}: it speaks` : `quiet to ${words(a.level)}`}
        </b>
      </p>
      {end && (
        <button type="button" onClick={end} aria-label={`Let it speak again: ${a.words} of ${a.serial}`}>
          Let it speak again
        </button>
      )}
    </Level>
  );
}

const RouteBox = styled.li`
  border-bottom: 1px solid ${color.rule}; padding: 8px 0; display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 0 12px;
  align-items: center; & small { ${text.small} color: ${color.ink2}; overflow-wrap: anywhere; } & small.failed { color: ${color.ink};
    font-weight: 600; } & button { min-width: 0; }
`;

/** What a route does, and what it has done. */
export function RouteRow({ r, now, open, tried }: { r: Route; now: Date; open: () => void; tried: () => void }) {
  const s = r.route;
  const failed = s.off !== undefined || (r.failed !== undefined && (r.sent === undefined || r.failed > r.sent));
  const words = s.off
    ? `off: ${s.off}`
    : s.by === "console"
      ? s.to
        ? `where ${s.to} ${s.to.includes(",") ? "have" : "has"} the console open`
        : "wherever the console is open"
      : [
          r.failed && failed && `failed ${whenShort(r.failed, now)}: ${r.why ?? ""}`,
          r.sent && `sent ${whenShort(r.sent, now)}`,
          r.failed && !failed && `failed ${whenShort(r.failed, now)}`,
          !r.failed && r.sent && "never failed",
          !r.failed && !r.sent && "nothing told yet",
        ]
          .filter(Boolean)
          .join(" · ");
  return (
    <RouteBox>
      <div>
        <p>{r.set_by === undefined ? <b>{s.name}</b> : <Plain onClick={open}>{s.name}</Plain>}</p>
        <small className={failed ? "failed" : undefined}>{words}</small>
      </div>
      {s.off === undefined && (
        <Button onPress={tried} aria-label={`Try it: ${s.name}`}>
          Try it
        </Button>
      )}
    </RouteBox>
  );
}

const PlainButton = styled.button`
  background: none; border: 0; padding: 0; min-height: 24px; cursor: pointer; text-align: left; font-weight: 600;
  text-decoration: underline; text-decoration-color: ${color.edge}; text-underline-offset: 3px;
`;

export function Plain({ onClick, children }: { onClick: () => void; children: ReactNode }) {
  return (
    <PlainButton type="button" onClick={onClick}>
      {children}
    </PlainButton>
  );
}

const BadgeBox = styled.span<{ $loud: boolean }>`
  display: inline-block; min-width: 20px; padding: 0 5px; text-align: center; ${text.small} font-weight: 600; margin-left: 6px;
  ${({ $loud }) =>
    $loud ? css`background: ${color.ink}; color: ${color.paper};` : css`box-shadow: inset 0 0 0 1px ${color.edge}; color: ${color.ink2};`}
`;

/** How many alerts there are, beside what they are about; filled while one of them is open. */
export function Badge({ alerts, loud, words }: { alerts: number; loud: boolean; words?: string }) {
  if (alerts === 0) return null;
  return (
    <BadgeBox $loud={loud} title={words}>
      {alerts}
      <span style={{ position: "absolute", width: 1, height: 1, overflow: "hidden", clipPath: "inset(50%)" }}>
        {" "}
        {alerts === 1 ? "alert" : "alerts"}
      </span>
    </BadgeBox>
  );
}

/** Which alert of a list keys mean: j and k go through it. */
export function useCursor(ids: number[]): [number | undefined, (by: number) => void] {
  const [at, go] = useState<number>();
  const now = at !== undefined && ids.includes(at) ? at : undefined;
  const move = (by: number) => {
    const i = now === undefined ? (by > 0 ? -1 : ids.length) : ids.indexOf(now);
    const next = ids[Math.min(ids.length - 1, Math.max(0, i + by))];
    go(next);
    document.querySelector(`[data-alert="${next}"]`)?.scrollIntoView({ block: "nearest" });
  };
  return [now, move];
}
