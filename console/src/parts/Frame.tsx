import type { ReactNode } from "react";
import { NavLink, useLocation } from "react-router";
import styled from "styled-components";
import type { Service } from "../data/types";
import { hidden } from "../theme/Global";
import { color, narrow, phone, px, text } from "../theme/tokens";
import { Badge } from "./AlertParts";
import { clockOf, dayOf } from "./format";

const Top = styled.header`
  height: 48px; border-bottom: 1px solid ${color.edge}; padding: 0 24px; display: flex; align-items: stretch; white-space: nowrap;
  & > * { display: flex; align-items: center; }
  & .brand { font-size: ${px.large}; font-weight: 600; margin-right: 28px; text-decoration: none; letter-spacing: -0.01em; }
  & nav a { display: flex; align-items: center; padding: 0 12px; height: 47px; text-decoration: none; color: ${color.ink2}; }
  & nav a[aria-current="page"], & nav a.here { color: ${color.ink}; font-weight: 600; box-shadow: inset 0 -4px ${color.accent}; }
  & .who { margin-left: auto; color: ${color.ink3}; ${text.small} gap: 6px; }
  & .who button { background: none; border: 0; min-height: 44px; padding: 0 4px; font-size: ${px.small}; cursor: pointer;
    text-decoration: underline; text-decoration-color: ${color.edge}; text-underline-offset: 3px; color: ${color.ink2}; }
  @media (max-width: ${narrow}px) { height: auto; min-height: 48px; flex-wrap: wrap; padding: 0 12px; & .brand { margin-right: 0;
      padding: 0 12px; } & .who { margin: 0; padding: 0 12px; width: 100%; } }
  @media (max-width: ${phone}px) { padding: 0 8px; & .brand { padding: 0 8px; } & .who { width: auto; margin-left: auto; padding: 0 8px; }
    & .where, & .when { display: none; } & nav { width: 100%; justify-content: space-between; order: 3; }
    & nav a { padding: 0 4px; font-size: ${px.small}; height: 44px; } }
`;

const Lost = styled.p`background: ${color.ink}; color: ${color.paper}; padding: 8px 24px; font-weight: 600;`;

/** What stands around every page: where one is, who one is, whether the line stands. */
export function Frame({
  service,
  time,
  person,
  rename,
  leave,
  lost,
  said,
  alerts,
  theme,
  turn,
  children,
}: {
  service?: Service;
  time: Date;
  person: string;
  rename: () => void;
  leave?: () => void; // signs out; absent in an open shop
  lost?: Date;
  said: string;
  /** How many alerts are open. */
  alerts: number;
  theme: "light" | "dark";
  turn: () => void;
  children: ReactNode;
}) {
  const { pathname } = useLocation();
  return (
    <>
      <Top>
        <NavLink className="brand" to="/">
          Hylostat
        </NavLink>
        <nav aria-label="Pages">
          <NavLink to="/" end>
            Bench
          </NavLink>
          <NavLink to="/intake">Intake</NavLink>
          <NavLink to="/drives">Drives</NavLink>
          <NavLink to="/lots">Lots</NavLink>
          <NavLink to="/alerts" className={pathname === "/watch" ? "here" : undefined}>
            Alerts
            <Badge alerts={alerts} loud words="open, or nobody has settled them" />
          </NavLink>
          <NavLink to="/policy">Policy</NavLink>
        </nav>
        <div className="who">
          {service && (
            <span className="where">
              {service.shop} · {service.bench} ·
            </span>
          )}
          <button type="button" onClick={rename}>
            {person || "Who are you?"}
          </button>
          {leave && (
            <button type="button" onClick={leave}>
              Sign out
            </button>
          )}
          <span className="when">
            · {dayOf(time)}, {clockOf(time)}
            {service && service.factor !== 1 && ` · time ×${service.factor}`} ·
          </span>
          <button type="button" onClick={turn}>
            {theme === "light" ? "Dark" : "Light"}
          </button>
        </div>
      </Top>
      {lost && <Lost role="alert">Connection lost {clockOf(lost)}. Checks continue.</Lost>}
      {service?.warning && <Lost role="alert">{service.warning}.</Lost>}
      <div aria-live="polite" style={hidden}>
        {said}
      </div>
      <main>{children}</main>
    </>
  );
}

const NoticeBox = styled.div`
  position: fixed; right: 24px; bottom: 24px; z-index: 8; background: ${color.sheet}; border: 1px solid ${color.ink};
  border-top-width: 2px; padding: 8px 8px 8px 16px; display: flex; gap: 16px; align-items: center;
  max-width: min(560px, calc(100% - 48px));
`;

/** Something that just happened, with the one thing to do about it. */
export function Notice({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <NoticeBox role="status">
      <span>{children}</span>
      {action}
    </NoticeBox>
  );
}
