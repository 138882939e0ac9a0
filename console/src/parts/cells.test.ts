import { describe, expect, it } from "vitest";
import { emptyCells, fill, merge, scaleTop, spots, unswept } from "./cells";

const ribbon = () => {
  const cells = emptyCells(16);
  fill(cells, [{ first: 4, speeds: [190_000, 180_000, 20_000, 0], classes: "014-", unread: [{ cell: 6, sectors: 3 }] }]);
  return cells;
};

describe("a ribbon's cells", () => {
  it("are filled where a segment lies, and nowhere else", () => {
    const c = ribbon();
    expect([...c.classes.slice(3, 9)]).toEqual([unswept, 0, 1, 4, unswept, unswept]);
    expect(c.speeds[4]).toBe(190);
    expect(c.unread[6]).toBe(3);
    fill(c, [{ first: 6, speeds: [150_000], classes: "0", unread: [] }]);
    expect(c.unread[6]).toBe(0);
    fill(c, [{ first: 15, speeds: [1, 1, 1], classes: "000", unread: [{ cell: 99, sectors: 1 }] }]);
    expect(c.classes).toHaveLength(16);
  });
  it("are merged so that the worst wins", () => {
    expect(merge(ribbon(), 4, 8)).toEqual({ speed: 20, worst: 4, unread: 3 });
    expect(merge(ribbon(), 8, 12)).toEqual({ speed: 0, worst: unswept, unread: 0 });
  });
  it("have one round scale that holds the fastest", () => {
    expect(scaleTop(ribbon())).toBe(200);
    expect(scaleTop(emptyCells(4))).toBe(10);
  });
  it("are told as stretches, unreadable apart from slow", () => {
    const c = emptyCells(8);
    fill(c, [{ first: 0, speeds: [1, 1, 1, 1, 1, 1], classes: "334430", unread: [{ cell: 4, sectors: 2 }] }]);
    expect(spots(c)).toEqual([
      { from: 0, to: 4, worst: 4, unread: 0 },
      { from: 4, to: 5, worst: 3, unread: 2 },
    ]);
  });
});
