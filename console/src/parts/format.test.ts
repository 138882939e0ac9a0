import { expect, test } from "vitest";
import vectors from "../../../internal/core/wording/testdata/numbers.json";
import { grouped, left, number, parts, quantity, share, size } from "./format";

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
