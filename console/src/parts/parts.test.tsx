import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import type { Bay, Signal, Signals } from "../data/types";
import { BayCard } from "./BayCard";
import { NotAvailable } from "./basics";
import { hours, left, number, parts, quantity, size } from "./format";
import { axisOf, byReason, overWhat, plot, sift } from "./SignalFigure";

describe("numbers", () => {
  it("keeps thousands together and drops idle decimals", () => {
    expect(number(20512)).toBe("20\u00A0512");
    expect(number(-5)).toBe("\u22125");
    expect(number(2, 1)).toBe("2");
    expect(number(1.84, 1)).toBe("1.8");
  });
  it("writes sizes as on the label", () => {
    expect(size(2_000_000_086_016)).toBe("2 TB");
    expect(size(480_103_981_056)).toBe("480 GB");
    expect(size(67_108_864)).toBe("67 MB");
  });
  it("scales data and keeps other units", () => {
    expect(quantity(18.42e12, "B")).toEqual(["18.4", "TB"]);
    expect(quantity(20512, "h")).toEqual(["20\u00A0512", "h"]);
  });
  it("writes times to go and ages", () => {
    expect(left(45)).toBe("45 s");
    expect(left(120)).toBe("2 min");
    expect(left(14_400)).toBe("4 h");
    expect(left(5400)).toBe("1 h 30 min");
    expect(hours(22_236)).toBe("22\u00A0236 h (2 y 6 m)");
  });
  it("sets a serial's ending apart", () => {
    expect(parts("KVA077M511")).toEqual(["KVA07", "7M511"]);
    expect(parts("SHORT")).toEqual(["", "SHORT"]);
  });
});

const signal = (over: Partial<Signal>): Signal => ({
  name: "pending",
  words: "waiting",
  unit: "sectors",
  usual: "usual 0",
  matters: true,
  hours: [],
  values: [],
  readings: [],
  ...over,
});

describe("signals", () => {
  it("never draws what is not there as zero", () => {
    const { drawn, zero, missing, disagreeing } = sift([
      signal({ name: "a", reason: "the drive has none" }),
      signal({ name: "b", value: 0, values: [0, 0], hours: [1, 2] }),
      signal({ name: "c", value: 3, values: [0, 3], hours: [1, 2], disagrees: "SMART data, attribute 5 says 24" }),
    ]);
    expect(disagreeing.map((s) => s.name)).toEqual(["c"]);
    expect(missing.map((s) => s.name)).toEqual(["a"]);
    expect(
      byReason([signal({ words: "two", reason: "q" }), signal({ words: "one", reason: "r" }), signal({ words: "three", reason: "r" })]),
    ).toEqual([
      ["r", ["one", "three"]],
      ["q", ["two"]],
    ]);
    expect(zero.map((s) => s.name)).toEqual(["b"]);
    expect(drawn.map((s) => s.name)).toEqual(["c"]);
  });
  it("stands counters on zero and keeps the limit in sight", () => {
    const p = plot(signal({ value: 8, values: [0, 8], hours: [100, 200], limit: 16 }), { of: "hours", from: 100, to: 200 }, [
      { kind: "visit", hours: 150, reading: 2 },
    ]);
    expect(p.dots).toEqual([
      { x: 2, y: 112 },
      { x: 190, y: 87 },
    ]);
    expect(p.limit).toBe(62);
    expect(p.marks[0]?.x).toBe(96);
    expect(p.path).toBe("M2 112H190V87");
  });
  it("stands readings by their numbers where the hours went back", () => {
    const wiped = signal({ value: 2, values: [0, 1, 2], hours: [41_000, -1, 12], readings: [1, 2, 3] });
    const all: Signals = {
      signals: [wiped],
      readings: 3,
      first_hours: 41_000,
      last_hours: 12,
      marks: [{ kind: "visit", hours: 12, reading: 3 }],
    };
    expect(axisOf(all)).toEqual({ of: "readings", from: 1, to: 3 });
    const p = plot(wiped, axisOf(all), all.marks);
    expect(p.dots.map((d) => d.x)).toEqual([2, 96, 190]);
    expect(p.marks[0]?.x).toBe(190);
    expect(overWhat(all)).toContain("went back");
    expect(overWhat({ ...all, signals: [{ ...wiped, hours: [12, -1, 12] }], first_hours: 12 })).toBe(" over 0 h");
  });
  it("does not fall over a single reading", () => {
    expect(plot(signal({ value: 0, values: [0], hours: [-1] }), { of: "hours", from: 5, to: 5 }, []).dots).toHaveLength(1);
  });
});

const bay: Bay = {
  name: "bay-4",
  bench: "",
  number: 4,
  address: "sim",
  connection: "silent",
  attempts: 2,
  since: "2026-11-12T15:12:00Z",
  doing: "No answer, attempt 2. Check its power.",
  action: "try_again",
  next: "check power",
};

describe("a bay", () => {
  it("says what is going on and offers one action", () => {
    render(<BayCard bay={bay} act={() => {}} />);
    expect(screen.getByText("No answer, attempt 2. Check its power.")).toBeTruthy();
    expect(screen.getAllByRole("button").map((b) => b.textContent)).toEqual(["Try again"]);
    expect(screen.getByRole("article").getAttribute("aria-label")).toBe("Bay 4, silent, undecided");
  });
});

describe("not available", () => {
  it("has its reason and no number", () => {
    const { container } = render(<NotAvailable reason="a rotating drive has none" />);
    expect(container.textContent).toBe("not available: a rotating drive has none");
  });
});
