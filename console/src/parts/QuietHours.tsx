import styled from "styled-components";
import type { Alert, Route } from "../data/types";
import { color, text } from "../theme/tokens";
import { Section } from "./basics";

const wide = 320;
const perDay = 24 * 60;

/** Minutes since noon of a time of day, so that a night lies in one piece. */
const sinceNoon = (time: string) => {
  const [hours = 0, minutes = 0] = time.split(":").map(Number);
  return (hours * 60 + minutes + perDay / 2) % perDay;
};
const x = (minutes: number) => Math.round((minutes / perDay) * wide);

/** What a clock in a zone shows of a moment, as minutes since its noon. */
function minutesIn(zone: string, at: Date) {
  const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", timeZone: zone }).format(at);
  return sinceNoon(clock);
}

type Quiet = { zone: string; from: string; until: string; days: string; breaks: string; routes: Route[] };

/** The quiet hours there are, each with the routes that keep them. */
function quietOf(routes: Route[]): Quiet[] {
  const all = new Map<string, Quiet>();
  for (const r of routes) {
    for (const w of r.route.off === undefined ? (r.route.quiet ?? []) : []) {
      const zone = r.route.zone ?? "UTC";
      const days = (w.days ?? []).join(" ");
      const breaks = r.route.breaks ?? "wake";
      const key = [zone, w.from, w.until, days, breaks].join("|");
      const quiet = all.get(key) ?? { zone, from: w.from, until: w.until, days, breaks, routes: [] };
      quiet.routes.push(r);
      all.set(key, quiet);
    }
  }
  return [...all.values()];
}

const goes: Record<string, string> = {
  none: "Nothing goes through.",
  wake: "What wakes goes through at once.",
  now: "What is told at once goes through.",
  digest: "All goes through.",
};

const Strip = styled.svg`
  overflow: visible; max-width: 100%; display: block;
  & .axis { stroke: ${color.edge}; } & .quiet { stroke: ${color.edge}; } & .now { stroke: ${color.ink}; stroke-width: 2; }
  & .went { fill: ${color.ink}; } & text { fill: ${color.ink3}; font-size: 13px; } & .hatch { stroke: ${color.edge}; }
`;
const One = styled.div`padding: 4px 0 8px; & small { display: block; ${text.small} color: ${color.ink2}; }`;

/** Of one day, noon to noon: when routes are quiet, what was told all the same, and now. */
function Day({ q, alerts, now }: { q: Quiet; alerts: Alert[]; now: Date }) {
  const [from, until] = [sinceNoon(q.from), sinceNoon(q.until)];
  const parts =
    from < until
      ? [[from, until]]
      : [
          [from, perDay],
          [0, until],
        ];
  const inside = (m: number) => parts.some(([a = 0, b = 0]) => m >= a && m < b);
  const names = q.routes.map((r) => r.route.name);
  const went = alerts
    .flatMap((a) => a.told ?? [])
    .filter((m) => m.ended !== undefined && m.state === "sent" && names.includes(m.route))
    .filter((m) => now.getTime() - Date.parse(m.ended ?? "") < perDay * 60_000)
    .map((m) => minutesIn(q.zone, new Date(m.ended ?? "")))
    .filter(inside);
  const pattern = `hatch-${q.from}-${q.until}`.replaceAll(":", "");
  const title = `${q.from} to ${q.until}`;
  return (
    <One>
      <p>
        <b>{title}</b>
        {q.days && ` ${q.days}`}
        {q.zone !== Intl.DateTimeFormat().resolvedOptions().timeZone && <small>by the clock of {q.zone}</small>}
      </p>
      <Strip
        width={wide}
        height="36"
        viewBox={`0 0 ${wide} 36`}
        role="img"
        aria-label={`noon to noon: quiet from ${title}; ${went.length} told all the same in the last day`}
      >
        <defs>
          <pattern id={pattern} width="4" height="10" patternUnits="userSpaceOnUse">
            <path className="hatch" d="M0 10L4 0" />
          </pattern>
        </defs>
        {parts.map(([a = 0, b = 0]) => (
          <rect key={a} className="quiet" x={x(a)} y="5.5" width={x(b) - x(a)} height="10" fill={`url(#${pattern})`} />
        ))}
        <line className="axis" x1="0" x2={wide} y1="15.5" y2="15.5" />
        {went.map((m) => (
          <path key={m} className="went" d={`M${x(m) - 5} 2H${x(m) + 5}L${x(m)} 9Z`} />
        ))}
        <line className="now" x1={x(minutesIn(q.zone, now))} x2={x(minutesIn(q.zone, now))} y1="2" y2="18" />
        {Math.min(x(from), x(until)) > 56 && (
          <text x="0" y="32">
            12:00
          </text>
        )}
        <text x={x(from)} y="32" textAnchor="middle">
          {q.from}
        </text>
        <text x={x(until)} y="32" textAnchor="middle">
          {q.until}
        </text>
      </Strip>
      <small>
        {names.join("; ")} {names.length === 1 ? "waits" : "wait"}. {goes[q.breaks]}
      </small>
    </One>
  );
}

/** When routes are quiet; nothing where none ever is. */
export function QuietHours({ routes, alerts, now }: { routes: Route[]; alerts: Alert[]; now: Date }) {
  const all = quietOf(routes);
  if (all.length === 0) return null;
  return (
    <Section>
      <header>
        <h2>Quiet hours</h2>
        <p>noon to noon · ▾ told · line: now</p>
      </header>
      {all.map((q) => (
        <Day key={[q.zone, q.from, q.until, q.days, q.breaks].join()} q={q} alerts={alerts} now={now} />
      ))}
    </Section>
  );
}
