import type { ReactNode } from "react";
import styled from "styled-components";
import type { Signal, Signals } from "../data/types";
import { color, px, text } from "../theme/tokens";
import { number, quantity } from "./format";
import type { Place } from "./places";

const Figure = styled.figure`
  width: 100%; max-width: 192px; min-width: 0; height: 132px; border-top: 1px solid ${color.edge};
  & figcaption { height: 47px; padding-top: 2px; }
  & figcaption > div { display: flex; gap: 4px; justify-content: space-between; align-items: baseline; ${text.small} white-space: nowrap; }
  & figcaption > div + div { line-height: 26px; }
  & figcaption .words { overflow: hidden; text-overflow: ellipsis; min-width: 60px; }
  & b { ${text.large} }
  & b small { font-size: ${px.small}; font-weight: 400; }
  & .finding { ${text.small} margin-right: 4px; }
  & .margin { margin-left: auto; font-weight: 600; overflow: hidden; text-overflow: ellipsis; } & .usual { color: ${color.ink3}; }
  & figcaption > div:first-child { flex-wrap: wrap; height: 18px; overflow: hidden; }
  & .soft { color: ${color.ink3}; }
  & svg { overflow: visible; max-width: 100%; }
  & text { font-size: ${px.small}; fill: ${color.ink3}; }
  & .over { paint-order: stroke; stroke: ${color.paper}; stroke-width: 4px; stroke-linejoin: round; }
  & .axis { stroke: ${color.edge}; }
  & .visit { stroke: ${color.rule}; }
  & .limit { stroke: ${color.ink2}; stroke-dasharray: 4 4; }
  & .step { fill: none; stroke: ${color.ink}; stroke-width: 1.5; }
  & .dot { fill: ${color.ink}; }
  & .tick { stroke: ${color.ink}; stroke-width: 1.5; }
`;

const top = 62;
const bottom = 112;
const width = 192;

export interface Plot {
  path: string;
  dots: { x: number; y: number }[];
  limit?: number;
  marks: { kind: string; x: number }[];
}

/** What the figures of a drive share across: its power-on hours, or, where these went back, the numbers of its readings. */
export interface Axis {
  of: "hours" | "readings";
  from: number;
  to: number;
}

/** The axis on which all signals of a drive can stand. */
export function axisOf(all: Signals): Axis {
  const back = all.signals.some((s) => {
    const known = s.hours.filter((h) => h >= 0);
    return known.some((h, i) => h < (known[i - 1] ?? 0));
  });
  return back ? { of: "readings", from: 1, to: all.readings } : { of: "hours", from: all.first_hours ?? 0, to: all.last_hours ?? 1 };
}

/** Over what the readings were taken, for people. */
export function overWhat(all: Signals): string {
  const { of, from, to } = axisOf(all);
  if (of === "readings") return ", drawn by their numbers: its count of hours went back";
  return all.first_hours === undefined ? "" : ` over ${number(to - from)} h`;
}

/** Places a signal's points, px: the axis across, values from the least drawn to the greatest or the limit upwards. */
export function plot(signal: Signal, { of, from, to }: Axis, marks: Signals["marks"]): Plot {
  const span = Math.max(1e-9, to - from);
  const x = (at: number) => Math.round((2 + ((at - from) / span) * (width - 4)) * 10) / 10;
  const known = (at = -1) => (at >= 0 ? at : from);
  const floor = signal.unit === "°C" ? Math.min(20, ...signal.values) : 0;
  const high = Math.max(...signal.values, signal.limit ?? 0);
  const range = high - floor || 1;
  const y = (v: number) => Math.round((bottom - ((v - floor) / range) * (bottom - top)) * 10) / 10;
  const dots = signal.values.map((v, i) => ({ x: x(known(signal[of][i])), y: y(v) }));
  const path = dots.map((d, i) => (i === 0 ? `M${d.x} ${d.y}` : `H${d.x}V${d.y}`)).join("");
  return {
    path,
    dots,
    limit: signal.limit === undefined ? undefined : y(signal.limit),
    marks: marks.map((m) => ({ kind: m.kind, x: x(of === "hours" ? m.hours : m.reading) })),
  };
}

const OriginButton = styled.button`
  background: none; border: 0; padding: 0; text-align: left; cursor: pointer; min-height: 24px;
  &:hover { text-decoration: underline; text-decoration-color: ${color.edge}; text-underline-offset: 3px; }
`;

/** Where a signal's bytes are; undefined when it is not there. */
export const placeOf = (s: Signal): Place | undefined =>
  s.page === undefined ? undefined : { page: s.page, offset: s.offset ?? 0, length: s.length ?? 0 };

/** A number that leads to the bytes it comes from. */
function Origin({
  place,
  source,
  follow,
  children,
}: {
  place?: Place;
  source?: string;
  follow?: (place: Place) => void;
  children: ReactNode;
}) {
  if (!place || !follow) return <>{children}</>;
  return (
    <OriginButton type="button" title={`${source}: see its bytes`} onClick={() => follow(place)}>
      {children}
    </OriginButton>
  );
}

/** Whether a signal's words name its unit: "pending sectors". */
const tellsUnit = (s: Signal) => s.unit !== "" && (s.words.split(",")[0] ?? "").endsWith(s.unit);

/** One signal over the drive's life: steps with a dot for each reading, the policy's limit dashed. */
export function SignalFigure({
  signal,
  all,
  ink,
  axis,
  follow,
}: {
  signal: Signal;
  all: Signals;
  ink: string;
  axis: boolean;
  follow?: (place: Place) => void;
}) {
  const across = axisOf(all);
  const p = plot(signal, across, all.marks);
  const unit = signal.unit;
  const last = p.dots.at(-1);
  const [value, scaled] = quantity(signal.value ?? 0, unit);
  const limit = signal.limit === undefined ? undefined : `limit ${number(signal.limit)}${unit === "°C" ? " °C" : ""}`;
  const margin = signal.margin?.words ?? (signal.usual || "no limit");
  const since = signal.since ? `, ${signal.since} since the last visit` : "";
  const caption = `${signal.words}: ${value}${tellsUnit(signal) ? "" : ` ${scaled}`}, ${margin}${since}`;
  return (
    <Figure>
      <figcaption>
        <div>
          <span className="words" title={signal.words}>
            {signal.finding !== undefined && (
              <b className="finding" style={{ color: ink }}>
                {signal.finding}
              </b>
            )}
            {signal.words}
          </span>
          {!signal.margin && <span className="usual">{signal.usual}</span>}
        </div>
        <div>
          <Origin place={placeOf(signal)} source={signal.source} follow={follow}>
            <b>
              {value}
              {scaled && !tellsUnit(signal) && <small> {scaled}</small>}
            </b>
          </Origin>
          {signal.since && <span className="soft">{signal.since}</span>}
          {signal.margin && <span className="margin">{signal.margin.words}</span>}
        </div>
      </figcaption>
      <svg width={width} height="84" viewBox={`0 48 ${width} 84`} role="img" aria-label={caption}>
        {p.marks
          .filter((m) => m.kind === "visit")
          .map((m) => (
            <path key={m.x} className="visit" d={`M${m.x} 60V112`} />
          ))}
        <path className="axis" d={`M0 112.5H${width}`} />
        {p.limit !== undefined && <path className="limit" d={`M0 ${p.limit + 0.5}H${width}`} />}
        <path className="step" d={p.path} />
        {p.dots.map((d, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a dot is its place in the series
          <circle key={i} className="dot" cx={d.x} cy={d.y} r="1.75" />
        ))}
        {last && <circle className="dot" cx={last.x} cy={last.y} r="3" />}
        {p.limit !== undefined && (
          <text className="over" x="2" y={p.limit - 3}>
            {limit}
          </text>
        )}
        {p.marks
          .filter((m) => m.kind === "quick")
          .map((m) => (
            <path key={m.x} className="tick" d={`M${m.x} 113V117`} />
          ))}
        {axis && (
          <>
            <text x="0" y="131">
              {across.of === "hours" ? `${number(across.from)} h` : `reading ${across.from}`}
            </text>
            <text x={width} y="131" textAnchor="end">
              {across.of === "hours" ? `${number(across.to)} h` : `reading ${across.to}`}
            </text>
          </>
        )}
      </svg>
    </Figure>
  );
}

/** Signals that are not there, by the reason they share; the reason of most first. */
export function byReason(missing: Signal[]): [reason: string, words: string[]][] {
  const by = new Map<string, string[]>();
  for (const s of missing) by.set(s.reason ?? "not known", [...(by.get(s.reason ?? "not known") ?? []), s.words]);
  return [...by].sort((a, b) => b[1].length - a[1].length);
}

const Quiet = styled.details`
  margin-top: 12px; color: ${color.ink2}; ${text.small}
  & summary { min-height: 44px; display: flex; align-items: center; gap: 8px; cursor: pointer; } & summary::before { content: "▸"; }
  &[open] summary::before { content: "▾"; }
  & dt { font-weight: 600; color: ${color.ink}; margin-top: 4px; }
`;

/** The signals that are not drawn, in one line; opened, each by its name, under the reason it shares. */
export function QuietSignals({ zero, missing, disagreeing }: { zero: Signal[]; missing: Signal[]; disagreeing: Signal[] }) {
  const line = [
    zero.length > 0 && `${zero.length} zero in all readings`,
    missing.length > 0 && `${missing.length} not available`,
    disagreeing.length > 0 && `${disagreeing.length} whose sources disagree`,
  ].filter(Boolean);
  if (line.length === 0) return null;
  return (
    <Quiet>
      <summary>{line.join(" · ")}</summary>
      <dl>
        {disagreeing.length > 0 && (
          <>
            <dt>Sources disagree</dt>
            {disagreeing.map((s) => (
              <dd key={s.name}>{`${s.words} ${number(s.value ?? 0)}, ${s.disagrees}`}</dd>
            ))}
          </>
        )}
        {zero.length > 0 && (
          <>
            <dt>Zero in all readings</dt>
            <dd>{zero.map((s) => s.words).join(", ")}</dd>
          </>
        )}
        {byReason(missing).map(([reason, words]) => (
          <div key={reason}>
            <dt>Not available: {reason}</dt>
            <dd>{words.join(", ")}</dd>
          </div>
        ))}
      </dl>
    </Quiet>
  );
}

/** Sorts signals into those drawn, those that were zero all along, those not available, and those whose sources disagree. */
export function sift(signals: Signal[]): { drawn: Signal[]; zero: Signal[]; missing: Signal[]; disagreeing: Signal[] } {
  const missing = signals.filter((s) => s.value === undefined);
  // The hours are the axis of all the others.
  const there = signals.filter((s) => s.value !== undefined && s.values.length > 0 && s.unit !== "h");
  const zero = there.filter((s) => s.values.every((v) => v === 0));
  return { drawn: there.filter((s) => !zero.includes(s)).slice(0, 12), zero, missing, disagreeing: there.filter((s) => s.disagrees) };
}
