import { type Cells, merge, rows, slowFrom, unswept } from "./cells";

/** What a drawing of a ribbon needs besides its cells. Sizes are CSS px. */
export interface Picture {
  width: number;
  top: number;
  share: number;
  heat: { share: number; celsius: number }[];
  advice: number;
  sample: boolean;
  /** The speed falls towards the inner tracks. */
  falls: boolean;
  /** Cell under the cursor. */
  cursor?: number;
  /** What the rows show, in cells; the whole ribbon when not given. */
  window?: Window;
  /** Exact places that are unreadable, in cells; drawn in place of the cells' own once the rows show less than all. */
  marks?: { from: number; to: number }[];
  /** An earlier sweep of the same drive: its speed is drawn below. */
  earlier?: Cells;
}

/** A stretch of the surface, in cells and parts of them. */
export interface Window {
  from: number;
  span: number;
}

/** The stretch a sixteenth as long around a cell, down to one cell. */
export function closer(w: Window, around: number, count: number): Window {
  const span = Math.max(1, w.span / 16);
  return { span, from: Math.min(Math.max(0, span <= 1 ? Math.floor(around) : around - span / 2), count - span) };
}

/** Colours, as CSS has them. */
export interface Inks {
  paper: string;
  well: string;
  rule: string;
  edge: string;
  ink: string;
  ink2: string;
  ink3: string;
  replace: string;
  classes: string[];
}

export const overview = 64;
export const heatTop = 72;
export const heatHeight = 36;
export const rowsFrom = 136;
export const pitch = 52;
export const height = rowsFrom + rows * pitch - 8;

const coldest = 20;
const hottest = 60;
export const heatY = (celsius: number) =>
  heatTop + heatHeight - ((Math.min(Math.max(celsius, coldest), hottest) - coldest) / (hottest - coldest)) * heatHeight;

/** How the speed at one share of the surface relates to that at an earlier one: at constant density it goes with the radius. */
const ahead = (at: number, now: number, falls: boolean) => (falls ? Math.sqrt((1 - 0.75 * at) / (1 - 0.75 * now)) : 1);

/** Draws a ribbon: speed over the whole surface, temperature on the same axis, then eight rows of cells. Pure but for the canvas. */
export function drawRibbon(x: CanvasRenderingContext2D, cells: Cells, p: Picture, c: Inks) {
  const { width: w } = p;
  const line = (x0: number, y0: number, x1: number, y1: number, ink: string, thick = 1) => {
    x.strokeStyle = ink;
    x.lineWidth = thick;
    x.beginPath();
    x.moveTo(x0, y0);
    x.lineTo(x1, y1);
    x.stroke();
  };
  const notch = (cx: number, y: number, towards: 1 | -1) => {
    x.fillStyle = c.replace;
    x.beginPath();
    x.moveTo(cx - 6, y);
    x.lineTo(cx + 6, y);
    x.lineTo(cx, y + 7 * towards);
    x.fill();
  };
  x.clearRect(0, 0, w, height);
  const done = p.sample ? w : p.share * w;

  // The speed over the whole surface.
  x.fillStyle = c.well;
  x.fillRect(0, 0, done, overview);
  line(0, 0.5, w, 0.5, c.rule);
  line(0, overview / 2 + 0.5, w, overview / 2 + 0.5, c.rule);
  line(0, overview + 0.5, w, overview + 0.5, c.edge);
  const each = cells.count / w;
  const win = p.window ?? { from: 0, span: cells.count };
  const zoomed = win.span < cells.count;
  if (zoomed) {
    x.fillStyle = c.rule;
    x.fillRect((win.from / cells.count) * w, 0, Math.max(2, (win.span / cells.count) * w), overview);
  }
  const y = (speed: number, low: number, high: number) => low - (speed / p.top) * high;
  x.lineJoin = "round";
  if (p.earlier && p.earlier.count === cells.count) {
    x.strokeStyle = c.edge;
    x.lineWidth = 1;
    x.beginPath();
    for (let i = 0; i < w; i++) {
      const m = merge(p.earlier, Math.floor(i * each), Math.max(Math.floor(i * each) + 1, Math.floor((i + 1) * each)));
      if (m.speed > 0) x.lineTo(i + 0.5, y(m.speed, overview, overview));
    }
    x.stroke();
  }
  x.strokeStyle = c.ink;
  x.lineWidth = 1.5;
  x.beginPath();
  let last = 0;
  for (let i = 0; i < w; i++) {
    const m = merge(cells, Math.floor(i * each), Math.max(Math.floor(i * each) + 1, Math.floor((i + 1) * each)));
    if (m.speed > 0) {
      x.lineTo(i + 0.5, y(m.speed, overview, overview));
      last = m.speed;
    }
  }
  x.stroke();
  for (let i = 0; i < cells.count; i++) if (cells.unread[i]) notch((i / cells.count) * w, overview, -1);
  if (done > 0 && done < w) {
    line(Math.round(done) + 0.5, 0, Math.round(done) + 0.5, overview, c.ink);
    line(Math.round(done) + 0.5, heatTop, Math.round(done) + 0.5, heatTop + heatHeight, c.ink);
    x.save();
    x.setLineDash([2, 4]);
    x.strokeStyle = c.ink3;
    x.lineWidth = 1;
    x.beginPath();
    for (let i = done; i <= w; i += 4) x.lineTo(i, y(last * ahead(i / w, done / w, p.falls), overview, overview));
    x.stroke();
    x.restore();
  }

  // The temperature, on the same axis.
  x.fillStyle = c.well;
  x.fillRect(0, heatY(45), w, heatY(35) - heatY(45));
  line(0, heatTop + heatHeight + 0.5, w, heatTop + heatHeight + 0.5, c.edge);
  x.save();
  x.setLineDash([4, 4]);
  line(0, heatY(p.advice) + 0.5, w, heatY(p.advice) + 0.5, c.ink2);
  x.restore();
  x.strokeStyle = c.ink;
  x.lineWidth = 1.5;
  x.beginPath();
  for (const h of p.heat) x.lineTo(h.share * w, heatY(h.celsius));
  x.stroke();
  if (p.heat.length === 1 && p.heat[0]) {
    x.fillStyle = c.ink;
    x.fillRect(p.heat[0].share * w - 1.5, heatY(p.heat[0].celsius) - 1.5, 3, 3);
  }
  for (let i = 0; i <= 4; i++) {
    const at = Math.round((i * w) / 4) + (i === 4 ? -0.5 : 0.5);
    line(at, heatTop + heatHeight, at, heatTop + heatHeight + 4, c.edge);
  }

  // The rows.
  const per = win.span / rows;
  const wide = per / w;
  for (let r = 0; r < rows; r++) {
    const top = rowsFrom + r * pitch;
    const ink = top + 24;
    const first = win.from + r * per;
    const cellsAt = (i: number) => {
      const low = Math.floor(first + i * wide + 1e-9);
      return [low, Math.min(cells.count, Math.max(low + 1, Math.floor(first + (i + 1) * wide + 1e-9)))] as const;
    };
    const at = (i: number) => merge(cells, ...cellsAt(i));
    line(0, top + 0.5, w, top + 0.5, c.rule);
    line(0, top + 20.5, w, top + 20.5, c.rule);
    x.strokeStyle = c.ink;
    x.lineWidth = 1.25;
    x.beginPath();
    let drawing = false;
    const cuts: number[] = [];
    for (let i = 0; i < w; i++) {
      const m = at(i);
      if (m.speed > 0) {
        if (!drawing && p.sample) x.moveTo(i + 0.5, y(m.speed, top + 20, 20));
        else x.lineTo(i + 0.5, y(m.speed, top + 20, 20));
        drawing = true;
      } else if (!p.sample) drawing = false;
      if (m.worst !== unswept) {
        x.fillStyle = c.classes[m.worst] ?? c.ink;
        x.fillRect(i, ink, 1, m.worst >= slowFrom ? 20 : 16);
      }
      if (m.unread > 0 && !(zoomed && p.marks)) cuts.push(i);
    }
    x.stroke();
    if (p.earlier && p.earlier.count === cells.count) {
      x.strokeStyle = c.edge;
      x.lineWidth = 1;
      x.beginPath();
      for (let i = 0; i < w; i++) {
        const m = merge(p.earlier, ...cellsAt(i));
        if (m.speed > 0) x.lineTo(i + 0.5, y(m.speed, top + 20, 20));
        if (m.unread > 0) x.fillRect(i - 1, ink + 17, 2, 3); // it was unreadable then
      }
      x.stroke();
    }
    if (zoomed)
      for (const k of p.marks ?? [])
        if (k.to > first && k.from < first + per) cuts.push(Math.max(0, Math.min(w - 1, Math.round((k.from - first) / wide))));
    x.strokeStyle = c.edge;
    x.lineWidth = 1;
    x.strokeRect(0.5, ink + 0.5, w - 1, 15);
    for (const i of cuts) {
      x.fillStyle = c.paper;
      x.fillRect(i - 2, ink - 1, 4, 18);
      notch(i, ink - 6, 1);
      notch(i, ink + 22, -1);
    }
    const head = p.share * cells.count - first;
    if (!p.sample && head > 0 && head < per) line(Math.round(head / wide) + 0.5, top, Math.round(head / wide) + 0.5, ink + 20, c.ink);
    if (p.cursor !== undefined && p.cursor >= first && p.cursor < first + per) {
      const cx = Math.round((p.cursor - first) / wide);
      x.strokeStyle = c.ink;
      x.lineWidth = 2;
      x.strokeRect(cx - 4, ink - 4, 8, 24);
    }
  }
}
