import { render, screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import type { Bay, Signal, Signals } from "../data/types";
import { BayCard } from "./BayCard";
import { NotAvailable } from "./basics";
import { hours, quantity } from "./format";
import { axisOf, byReason, overWhat, plot, sift } from "./SignalFigure";

describe("numbers", () => {
  it("keep units that are no bytes, and tell an age beside hours", () => {
    expect(quantity(20512, "h")).toEqual(["20\u00A0512", "h"]);
    expect(hours(22_236)).toBe("22\u00A0236 h (2 y 6 m)");
  });
});

const signal = (over: Partial<Signal>): Signal => ({
  name: "pending",
  words: "pending sectors",
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
  doing: { words: "No answer, attempt 2. Check its power." },
  action: "try_again",
  next: { words: "check power" },
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
