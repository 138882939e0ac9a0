import { describe, expect, it } from "vitest";
import { emptyCells, fill } from "./cells";
import { closer, drawRibbon, type Inks, type Picture } from "./drawRibbon";

const inks: Inks = {
  paper: "paper",
  well: "well",
  rule: "rule",
  edge: "edge",
  ink: "ink",
  ink2: "ink2",
  ink3: "ink3",
  replace: "replace",
  classes: ["c0", "c1", "c2", "c3", "c4", "c5"],
};

/** What is drawn, a line for each stroke or area. */
function drawing(draw: (x: CanvasRenderingContext2D) => void): string {
  const lines: string[] = [];
  let path: string[] = [];
  const set: Record<string, unknown> = {};
  const round = (all: unknown[]) => all.map((n) => (typeof n === "number" ? Math.round(n * 100) / 100 : JSON.stringify(n))).join(",");
  const pen = () => `${set.strokeStyle} ${set.lineWidth}`;
  const x = new Proxy(set, {
    get: (_, name: string) =>
      ({
        beginPath: () => {
          path = [];
        },
        moveTo: (...at: number[]) => path.push(`M${round(at)}`),
        lineTo: (...at: number[]) => path.push(`L${round(at)}`),
        stroke: () => lines.push(`stroke ${pen()}: ${path.join(" ")}`),
        fill: () => lines.push(`fill ${set.fillStyle}: ${path.join(" ")}`),
        fillRect: (...at: number[]) => lines.push(`area ${set.fillStyle}: ${round(at)}`),
        strokeRect: (...at: number[]) => lines.push(`frame ${pen()}: ${round(at)}`),
      })[name] ?? ((...at: unknown[]) => lines.push(`${name} ${round(at)}`)),
    set: (_, name: string, value) => {
      set[name] = value;
      return true;
    },
  });
  draw(x as unknown as CanvasRenderingContext2D);
  return `${lines.join("\n")}\n`;
}

const cells = () => {
  const c = emptyCells(64);
  const speeds = Array.from({ length: 48 }, (_, i) => 200_000 - 2_000 * i);
  fill(c, [{ first: 0, speeds, classes: "0010200003000004".repeat(3), unread: [{ cell: 9, sectors: 2 }] }]);
  return c;
};
const picture: Picture = {
  width: 32,
  top: 200,
  share: 0.75,
  heat: [
    { share: 0, celsius: 30 },
    { share: 0.5, celsius: 41 },
  ],
  advice: 55,
  sample: false,
  falls: true,
};

describe("a ribbon is drawn", () => {
  it.each<[string, Partial<Picture>]>([
    ["as it is swept", {}],
    [
      "closer, with its exact places, a cursor and an earlier sweep",
      { window: { from: 4, span: 16 }, marks: [{ from: 9.25, to: 9.5 }], cursor: 9, earlier: cells() },
    ],
    ["of a sample, with one temperature", { sample: true, falls: false, heat: [{ share: 1, celsius: 70 }] }],
    ["to its end, over an earlier one of another size", { share: 1, earlier: emptyCells(8) }],
  ])("%s", async (name, over) => {
    await expect(drawing((x) => drawRibbon(x, cells(), { ...picture, ...over }, inks))).toMatchFileSnapshot(
      `../testing/drawn/${name.replace(/\W+/g, "-")}.txt`,
    );
  });

  it("comes closer around a cell by a sixteenth, and stays on the surface", () => {
    expect(closer({ from: 0, span: 16384 }, 8192, 16384)).toEqual({ span: 1024, from: 7680 });
    expect(closer({ from: 0, span: 16384 }, 10, 16384)).toEqual({ span: 1024, from: 0 });
    expect(closer({ from: 0, span: 16384 }, 16380, 16384)).toEqual({ span: 1024, from: 15360 });
    expect(closer({ from: 4, span: 16 }, 9.7, 64)).toEqual({ span: 1, from: 9 });
    expect(closer({ from: 9, span: 1 }, 9.7, 64)).toEqual({ span: 1, from: 9 });
  });
});
