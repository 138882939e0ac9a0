import { useEffect, useMemo, useRef, useState } from "react";
import { Link as Plain } from "react-aria-components";
import styled from "styled-components";
import { hidden } from "../theme/Global";
import { color, text } from "../theme/tokens";
import { type Cells, merge, rows, scaleTop, unswept } from "./cells";
import { closer, drawRibbon, heatTop, height, type Inks, overview, pitch, rowsFrom, type Window } from "./drawRibbon";
import { count, number, size, spot } from "./format";

const Grid = styled.div`
  display: grid; grid-template-columns: 80px minmax(0, 1024px) 112px; gap: 0 8px; position: relative;
  & .side { position: relative; }
  & .side span, & .mid span { position: absolute; ${text.small} white-space: nowrap; color: ${color.ink3}; }
  & .left span { right: 0; }
  & .right span { left: 0; color: ${color.ink2}; }
  & .right .big { color: ${color.ink}; font-weight: 600; }
  & .right .bad { color: ${color.replace}; font-weight: 600; }
  & .mid { position: relative; min-width: 0; height: ${height}px; }
  & .mid span { transform: translateX(-50%); top: 110px; }
  & .mid span:first-of-type { transform: none; }
  & .mid span:last-of-type { transform: translateX(-100%); }
  & canvas { display: block; width: 100%; height: ${height}px; }
  @media (max-width: 700px) {
    grid-template-columns: 56px minmax(0, 1fr); & .right { display: none; } & .mid span:nth-of-type(even) { display: none; }
  }
`;
const Readout = styled.p`
  min-height: 18px; padding-left: 88px; ${text.small} color: ${color.ink2};
  @media (max-width: 700px) { padding-left: 0; }
`;
const Keys = styled.div`
  display: flex; gap: 4px 16px; flex-wrap: wrap; padding: 8px 0 0 88px; ${text.small} color: ${color.ink2}; align-items: center;
  & span { display: flex; align-items: center; gap: 4px; white-space: nowrap; }
  & i { width: 16px; height: 16px; display: block; }
  & .push { margin-left: auto; color: ${color.ink3}; }
  @media (max-width: 700px) { padding-left: 0; }
`;

/** Reads the colours of the present theme. */
function inks(): Inks {
  const style = getComputedStyle(document.documentElement);
  const get = (name: string) => style.getPropertyValue(`--${name}`).trim();
  return {
    paper: get("paper"),
    well: get("well"),
    rule: get("rule"),
    edge: get("edge"),
    ink: get("ink"),
    ink2: get("ink2"),
    ink3: get("ink3"),
    replace: get("replace"),
    classes: [0, 1, 2, 3, 4, 5].map((n) => get(`ribbon${n}`)),
  };
}

export interface RibbonProps {
  cells: Cells;
  /** Rises when cells changed in place. */
  version: number;
  /** How far the pass is, 0 to 1. */
  share: number;
  bytes: number;
  /** Bytes of a logical sector. */
  sector: number;
  speed?: number;
  celsius?: number;
  heat: { share: number; celsius: number }[];
  spinning: boolean;
  sample: boolean;
  label: string;
  live: boolean;
  /** Exact places that are unreadable, as LBAs. */
  exact?: { lba: number; sectors: number }[];
  /** An earlier sweep of the same drive, laid below. */
  earlier?: Cells;
}

const Link = styled(Plain)`text-decoration: underline; cursor: pointer;`;
const rowNumbers = [0, 1, 2, 3, 4, 5, 6, 7].slice(0, rows);
const limits = {
  spinning: ["under ½", "to 2", "to 4", "to 8", "to 16", "more"],
  flash: ["under 2", "to 4", "to 8", "to 16", "to 64", "more"],
};

/** The picture of a sweep. It is a fixed number of cells whatever the capacity; the worst cell wins its pixel. */
export function Ribbon(props: RibbonProps) {
  const { cells, version, share, bytes, heat, sample } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(1024);
  const [cursor, setCursor] = useState<number>();
  const [zoom, setZoom] = useState<Window[]>([]);
  const window = zoom.at(-1) ?? { from: 0, span: cells.count };
  const marks = useMemo(() => {
    const perCell = bytes / cells.count / props.sector;
    return props.exact?.map((r) => ({ from: r.lba / perCell, to: (r.lba + r.sectors) / perCell }));
  }, [props.exact, bytes, cells.count, props.sector]);
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme);
  // biome-ignore lint/correctness/useExhaustiveDependencies: version stands for what changed inside cells
  const top = useMemo(() => scaleTop(cells), [cells, version]);

  useEffect(() => {
    const box = canvas.current?.parentElement;
    if (!box) return;
    const measure = () => setWidth(Math.max(200, Math.min(1024, Math.floor(box.clientWidth))));
    measure();
    const size = new ResizeObserver(measure);
    size.observe(box);
    const themes = new MutationObserver(() => setTheme(document.documentElement.dataset.theme));
    themes.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    return () => {
      size.disconnect();
      themes.disconnect();
    };
  }, []);

  // biome-ignore lint/correctness/useExhaustiveDependencies: version and theme stand for what changed elsewhere
  useEffect(() => {
    const frame = requestAnimationFrame(() => {
      const k = canvas.current;
      const x = k?.getContext("2d");
      if (!k || !x) return;
      const dots = devicePixelRatio || 1;
      if (k.width !== width * dots || k.height !== height * dots) {
        k.width = width * dots;
        k.height = height * dots;
      }
      x.setTransform(dots, 0, 0, dots, 0, 0);
      drawRibbon(
        x,
        cells,
        { width, top, share, heat, advice: 55, sample, falls: props.spinning, cursor, window, marks, earlier: props.earlier },
        inks(),
      );
    });
    return () => cancelAnimationFrame(frame);
  }, [cells, version, width, top, share, heat, sample, cursor, theme, props.spinning, window.from, window.span, marks, props.earlier]);

  const per = window.span / rows;
  const cellBytes = bytes / cells.count;
  const step = Math.max(1, per);
  const move = (by: number) =>
    setCursor((c) =>
      Math.min(window.from + window.span - 1, cells.count - 1, Math.max(Math.floor(window.from), Math.floor((c ?? window.from) + by))),
    );
  const keys: Record<string, number> = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: step, ArrowUp: -step, PageDown: 64, PageUp: -64 };
  const zoomIn = (at: number | undefined) => at !== undefined && window.span > 1 && setZoom((z) => [...z, closer(window, at, cells.count)]);
  const zoomOut = () => setZoom((z) => z.slice(0, -1));
  const lbaAt = (cell: number) => Math.round((cell * cellBytes) / props.sector);
  const first = cells.speeds.find((v) => v > 0);
  return (
    <div>
      <Grid>
        <div className="side left">
          <span style={{ top: -3 }}>{number(top)} MB/s</span>
          <span style={{ top: 23 }}>{sample && props.spinning ? "with seeks" : "speed"}</span>
          <span style={{ top: overview - 12 }}>0</span>
          <span style={{ top: heatTop + 10 }}>20 to 60 °C</span>
          {rowNumbers.map((r) => (
            <span key={r} style={{ top: rowsFrom + r * pitch + 23 }}>
              {window.span > 64 ? spot((window.from + r * per) * cellBytes, bytes, zoom.length) : number(lbaAt(window.from + r * per))}
            </span>
          ))}
        </div>
        <div className="mid">
          <canvas
            ref={canvas}
            tabIndex={0}
            role="img"
            aria-label={props.label}
            onKeyDown={(e) => {
              if (e.key === "Enter") return void zoomIn(cursor);
              if (e.key === "Escape" && zoom.length > 0) return zoomOut();
              const by = keys[e.key];
              if (by === undefined) return;
              e.preventDefault();
              move(by);
            }}
            onBlur={() => setCursor(undefined)}
            onPointerMove={(e) => {
              const box = e.currentTarget.getBoundingClientRect();
              const row = Math.floor((e.clientY - box.top - rowsFrom) / pitch);
              if (row < 0 || row >= rows) return setCursor(undefined);
              setCursor(Math.min(cells.count - 1, Math.floor(window.from + row * per + ((e.clientX - box.left) / box.width) * per)));
            }}
            onDoubleClick={() => zoomIn(cursor)}
            onPointerLeave={() => setCursor(undefined)}
          />
          {[0, 1, 2, 3, 4].map((n) => (
            <span key={n} style={{ left: `${n * 25}%` }}>
              {spot((bytes * n) / 4, bytes)}
            </span>
          ))}
        </div>
        <div className="side right">
          {props.live && props.speed !== undefined && (
            <span className="big" style={{ top: -3 }}>
              {number(props.speed / 1e6)} MB/s now
            </span>
          )}
          {first !== undefined && <span style={{ top: 15 }}>{number(first)} MB/s at start</span>}
          <span style={{ top: heatTop }}>advice from 55 °C</span>
          {props.celsius !== undefined && (
            <span className="big" style={{ top: heatTop + 18 }}>
              {props.celsius} °C {props.live ? "now" : "at the end"}
            </span>
          )}
          {rowNumbers.map((r) => (
            <RowNote
              key={r}
              cells={cells}
              from={Math.floor(window.from + r * per)}
              to={Math.max(Math.floor(window.from + r * per) + 1, Math.floor(window.from + (r + 1) * per))}
              top={rowsFrom + r * pitch}
            />
          ))}
        </div>
      </Grid>
      <Readout aria-live="polite">{cursor !== undefined && told(cells, cursor, cellBytes, props.sector, bytes)}</Readout>
      <Keys>
        <span>{props.spinning ? "Revolutions lost" : "Times the local pace"}</span>
        {(props.spinning ? limits.spinning : limits.flash).map((words, i) => (
          <span key={words}>
            <i style={{ background: `var(--ribbon${i})` }} />
            {words}
          </span>
        ))}
        <span>
          <svg width="16" height="24" viewBox="0 0 16 24" aria-hidden="true">
            <path d="M0 4h6v16H0zM10 4h6v16h-6z" fill="var(--ribbon0)" />
            <path d="M2 0h12l-6 7zM2 24h12l-6-7z" fill={color.replace} />
          </svg>
          unreadable
        </span>
        <span>
          <i style={{ border: `1px solid ${color.edge}` }} />
          not {props.live ? "yet " : ""}swept
        </span>
        <span className="push">
          {zoom.length > 0 ? (
            <>
              rows: LBA {lbaAt(window.from)} to {lbaAt(window.from + window.span) - 1}
            </>
          ) : (
            <>a cell is {size(cellBytes)}; the worst shows</>
          )}
        </span>
        <span>
          {window.span > 1 && (
            <>
              <kbd>Enter</kbd> closer
            </>
          )}
          {zoom.length > 0 && (
            <>
              <kbd>Esc</kbd> <Link onPress={zoomOut}>back</Link>
            </>
          )}
        </span>
      </Keys>
      <p style={hidden}>{props.label}</p>
    </div>
  );
}

/** What stands beside a row: its speed and its worst fact. */
function RowNote({ cells, from, to, top }: { cells: Cells; from: number; to: number; top: number }) {
  let sum = 0;
  let read = 0;
  let slow = 0;
  for (let i = from; i < Math.min(to, cells.count); i++) {
    const v = cells.speeds[i] as number;
    if (v > 0) {
      sum += v;
      read++;
    }
    const c = cells.classes[i] as number;
    if (c !== unswept && c >= 3) slow++;
  }
  const { unread, worst } = merge(cells, from, to);
  if (worst === unswept && unread === 0) return <span style={{ top: top + 23 }}>not swept</span>;
  return (
    <>
      {read > 0 && <span style={{ top: top + 1 }}>{number(sum / read)} MB/s</span>}
      <span style={{ top: top + 23 }} className={unread > 0 ? "bad" : undefined}>
        {unread > 0 ? `${number(unread)} unreadable` : `${number(slow)} slow`}
      </span>
    </>
  );
}

/** A cell in words. */
function told(cells: Cells, cell: number, bytes: number, sector: number, capacity: number): string {
  const c = cells.classes[cell] as number;
  const lba = Math.ceil((cell * bytes) / sector);
  const where = `${spot(cell * bytes, capacity, 1)}, from LBA ${lba}`;
  if (c === unswept && !cells.unread[cell]) return `${where}: not swept`;
  const facts = [`${number(cells.speeds[cell] as number)} MB/s`, `class ${c === unswept ? "not known" : c}`];
  if (cells.unread[cell]) facts.push(count(cells.unread[cell] as number, "sector unreadable", "sectors unreadable"));
  return `${where}: ${facts.join(", ")}`;
}
