import { expect, test } from "vitest";
import vectors from "../../../internal/core/wording/testdata/numbers.json";
import {
  bayShort,
  bayWords,
  benchOf,
  capital,
  clockOf,
  count,
  dateOf,
  dayOf,
  grouped,
  hours,
  left,
  momentOf,
  number,
  parts,
  quantity,
  share,
  size,
  spot,
} from "./format";

const rules: Record<keyof typeof vectors, (x: number | string) => string> = {
  number: (x) => number(Number(x), 1),
  grouped: (x) => grouped(String(x)),
  bytes: (x) => quantity(Number(x), "B").join(" "),
  size: (x) => size(Number(x)),
  share: (x) => share(Number(x)),
  left: (x) => left(Number(x)),
  serial: (x) => parts(String(x)).filter(Boolean).join(" "),
};

test.each(Object.keys(rules) as (keyof typeof vectors)[])("%s reads as the service writes it", (name) => {
  for (const [x, words] of vectors[name] as [number | string, string][]) expect(rules[name](x), `${name} of ${x}`).toBe(words);
});

test("times, names of bays and counts read as people say them", () => {
  const at = "2026-11-12T09:05:00Z";
  expect([dayOf(at), dateOf(at), clockOf(at), momentOf(at)]).toEqual(["12 Nov", "12 Nov 2026", "09:05", "12 Nov, 09:05"]);
  expect([bayShort("bay-3"), bayShort("field/3"), bayWords("bay-12"), bayWords("field/3")]).toEqual([
    "3",
    "field/3",
    "bay 12",
    "bay field/3",
  ]);
  expect([benchOf("bay-3"), benchOf("field/3")]).toEqual(["", "field"]);
  expect([capital("bay 3"), capital("")]).toEqual(["Bay 3", ""]);
  expect([count(1, "drive", "drives"), count(0, "drive", "drives"), count(1200, "drive", "drives")]).toEqual([
    "1 drive",
    "0 drives",
    "1\u00a0200 drives",
  ]);
  expect([hours(12), hours(731), hours(8765), hours(8766), hours(22_236)]).toEqual([
    "12 h",
    "731 h (1 m)",
    "8\u00a0765 h (11 m)",
    "8\u00a0766 h (1 y 0 m)",
    "22\u00a0236 h (2 y 6 m)",
  ]);
  expect([spot(105.4e9, 2e12), spot(105.46e9, 2e12, 1), spot(5e6, 9e9), spot(1e9, 1e10)]).toEqual(["105 GB", "105.5 GB", "5 MB", "1 GB"]);
  expect([quantity(38.25, "°C"), quantity(4.1e9, "B"), quantity(999.4, "B")]).toEqual([
    ["38.3", "°C"],
    ["4.1", "GB"],
    ["999.4", "B"],
  ]);
});
