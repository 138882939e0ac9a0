import type { RibbonSegment } from "../data/types";

/** A ribbon as typed arrays: what is drawn, and what is told in words. */
export interface Cells {
  count: number;
  /** MB/s; 0 where nothing was read. */
  speeds: Float32Array;
  /** Class of slowness; `unswept` where nothing was swept. */
  classes: Uint8Array;
  /** Physical sectors that are unreadable. */
  unread: Uint32Array;
}

export const unswept = 255;
export const rows = 8;
/** The first class that makes a place slow. */
export const slowFrom = 3;

export function emptyCells(count: number): Cells {
  return { count, speeds: new Float32Array(count), classes: new Uint8Array(count).fill(unswept), unread: new Uint32Array(count) };
}

/** Writes segments into a ribbon. */
export function fill(cells: Cells, segments: RibbonSegment[]) {
  for (const s of segments) {
    for (let i = 0; i < s.speeds.length && s.first + i < cells.count; i++) {
      const at = s.first + i;
      cells.speeds[at] = (s.speeds[i] ?? 0) / 1000;
      const c = s.classes.charCodeAt(i) - 48;
      cells.classes[at] = c >= 0 && c <= 5 ? c : unswept;
      cells.unread[at] = 0;
    }
    for (const u of s.unread) if (u.cell < cells.count) cells.unread[u.cell] = u.sectors;
  }
}

/** Some cells as one mark: the slowest speed, the worst class, all that is unreadable. */
export interface Merged {
  speed: number;
  worst: number;
  unread: number;
}

/** Merges the cells from `from` up to `to`; the worst wins. */
export function merge(cells: Cells, from: number, to: number): Merged {
  const m: Merged = { speed: 0, worst: unswept, unread: 0 };
  for (let i = from; i < Math.min(to, cells.count); i++) {
    const v = cells.speeds[i] as number;
    if (v > 0 && (m.speed === 0 || v < m.speed)) m.speed = v;
    const c = cells.classes[i] as number;
    if (c !== unswept && (m.worst === unswept || c > m.worst)) m.worst = c;
    m.unread += cells.unread[i] as number;
  }
  return m;
}

/** The top of the one scale of speed, MB/s: the next round number. */
export function scaleTop(cells: Cells): number {
  let high = 0;
  for (const v of cells.speeds) if (v > high) high = v;
  for (let step = 10; ; step *= 10) for (const n of [1, 2, 2.5, 5]) if (n * step >= high) return n * step;
}

/** A stretch of cells with something in it, for the table of what the ribbon shows. */
export interface Spot {
  from: number;
  to: number;
  worst: number;
  unread: number;
}

/** The stretches that are slow or unreadable, in the order of the surface. */
export function spots(cells: Cells): Spot[] {
  const all: Spot[] = [];
  for (let i = 0; i < cells.count; i++) {
    const c = cells.classes[i] as number;
    const unread = cells.unread[i] as number;
    const slow = c !== unswept && c >= slowFrom;
    if (!slow && unread === 0) continue;
    const last = all.at(-1);
    if (last && last.to === i && last.unread > 0 === unread > 0) {
      last.to = i + 1;
      last.worst = Math.max(last.worst, slow ? c : 0);
      last.unread += unread;
    } else all.push({ from: i, to: i + 1, worst: slow ? c : 0, unread });
  }
  return all;
}
