import { cleanup, fireEvent, render, screen, within } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import type { Attribute, Comparison, Entry, Reading, Verdict } from "../data/types";
import { CounterTable, DeviceStatistics } from "./Counters";
import { LoggedErrors, SelfTests } from "./Logs";
import { RawPages } from "./RawPages";
import { SinceLastVisit, Timeline } from "./Timeline";
import { notJudged, VerdictPanel } from "./VerdictPanel";

afterEach(cleanup);

const at = "2026-11-12T15:12:00Z";

const verdict = (over: Partial<Verdict>): Verdict => ({
  serial: "KVA077M511",
  seq: 4,
  at,
  grade: "degrading",
  duty: "everyday",
  policy: 7,
  reading: 9,
  findings: [],
  notes: [],
  quiet: 27,
  unjudged: [],
  missing: [],
  advice: [],
  duties: [],
  ...over,
});

const panel = (v: Verdict) => {
  const sign = vi.fn();
  const overrule = vi.fn();
  render(<VerdictPanel verdict={v} sign={sign} overrule={overrule} busy={false} />);
  return { sign, overrule };
};

describe("a verdict", () => {
  it("shows findings first and notes as notes, with margins in words", () => {
    const finding = {
      rule: "r",
      effect: "degrading" as const,
      sentence: "3 sectors reallocated",
      detail: "unchanged",
      customer: "",
      signals: [],
      reading: 9,
      rests: [],
      source: "",
      margin: { used: 3, of: 8, words: "3 of 8 used" },
    };
    panel(
      verdict({
        findings: [finding],
        notes: [{ ...finding, rule: "n", effect: "note", sentence: "Link errors grow", detail: "", margin: undefined }],
      }),
    );
    expect(screen.getAllByRole("heading", { level: 2 }).map((h) => h.textContent)).toEqual(["3 sectors reallocated", "Link errors grow"]);
    expect(screen.getByText("3 of 8 used")).toBeTruthy();
    expect(screen.getByText("A note, changes no grade")).toBeTruthy();
  });
  it("is signed as it is, or overruled", () => {
    const { sign, overrule } = panel(verdict({}));
    fireEvent.click(screen.getByText("Sign: degrading"));
    fireEvent.click(screen.getByText("Overrule"));
    expect(sign).toHaveBeenCalledOnce();
    expect(overrule).toHaveBeenCalledOnce();
  });
  it("cannot be signed while it is undecided, and says what is missing", () => {
    panel(verdict({ grade: "undecided", missing: [{ id: "x", what: "a passed self-test", run: "quick check", minutes: 3 }] }));
    expect(screen.queryByText(/^Sign/)).toBeNull();
    expect(screen.getByText(/Get it by quick check, about 3 min/)).toBeTruthy();
  });
  it("tells the chance of failing with what makes it", () => {
    panel(
      verdict({
        risk: {
          words: "about 1 in 6, between 1 in 9 and 1 in 4",
          year: 0.17,
          low: 0.11,
          high: 0.25,
          base: 0.06,
          calibrated: 0,
          factors: [{ words: "pending sectors: 8", ratio: 3.5, source: "FAST 2007" }],
        },
      }),
    );
    expect(screen.getByText("about 1 in 6, between 1 in 9 and 1 in 4")).toBeTruthy();
    expect(screen.getByText("× 3.50")).toBeTruthy();
    expect(screen.getByText(/published rates only/)).toBeTruthy();
  });
  it("does not ask for evidence once a drive is to be replaced", () => {
    panel(verdict({ grade: "replace", missing: [{ id: "x", what: "a passed self-test", run: "quick check", minutes: 3 }] }));
    expect(screen.queryByText(/Missing/)).toBeNull();
  });
  it("shows both when it was overruled, and offers no second signature", () => {
    panel(verdict({ signed: { at, by: "Imre", grade: "replace", reason: "clicks", overruled: true } }));
    expect(screen.getByText(/overruled with replace by Imre/)).toBeTruthy();
    expect(screen.getByText(/clicks/)).toBeTruthy();
    expect(screen.queryByRole("button")).toBeNull();
  });
  it("names the duties by what they mean", () => {
    panel(
      verdict({
        duties: [
          { duty: "carry", fitness: "does", words: "carry" },
          { duty: "archive", fitness: "unjudged", words: "archive, needs whole sweep" },
        ],
      }),
    );
    expect(screen.getByText("Does for").nextSibling?.textContent).toBe("carry");
    expect(screen.getByText("Not judged").nextSibling?.textContent).toBe("archive");
  });
});

const attribute: Attribute = {
  id: 5,
  name: "sectors reallocated",
  explain: "Bad sectors replaced by spares.",
  meaning: "3 sectors",
  value: 99,
  worst: 99,
  threshold: 36,
  kind: "pre-failure",
  state: "above",
  raw: "000000000003",
  offset: 2,
  confidence: "trade",
  from: "common",
};

const reading = (over: Partial<Reading>): Reading => ({
  seq: 9,
  at,
  took_ms: 38,
  tool: "test",
  decoder: 1,
  dialect: 1,
  family: "unknown",
  sheets: [],
  alarm: "not raised",
  attributes: [attribute],
  statistics: [],
  self_tests: [],
  errors: [],
  faults: [],
  pages: [{ name: "ata/attributes", title: "SMART data", how: "ATA PASS-THROUGH(16)", size: 4, bytes: btoa("\x10\x00\x05\x33") }],
  ...over,
});

describe("counters", () => {
  it("open their explanation and lead to their bytes", () => {
    const follow = vi.fn();
    render(<CounterTable reading={reading({})} follow={follow} />);
    const name = screen.getByText("sectors reallocated");
    expect(name.getAttribute("aria-expanded")).toBe("false");
    fireEvent.click(name);
    expect(screen.getByText("Bad sectors replaced by spares.")).toBeTruthy();
    expect(screen.getByText("99, worst 99. At 36 or below it announces failure; 63 left.")).toBeTruthy();
    fireEvent.click(screen.getByText("SMART data, bytes 2 to 13"));
    expect(follow).toHaveBeenCalledWith({ page: "ata/attributes", offset: 2, length: 12 });
  });
  it("say why there are none", () => {
    const fault = {
      class: "switched_off",
      what: "SMART READ DATA",
      back: "SMART is switched off in the drive",
      advice: "Do x.",
      page: "ata/attributes",
    };
    render(<CounterTable reading={reading({ attributes: [], faults: [fault] })} follow={() => {}} />);
    expect(screen.getByText("not available: SMART is switched off in the drive. Do x.")).toBeTruthy();
  });
  it("without a threshold cannot fail", () => {
    render(<CounterTable reading={reading({ attributes: [{ ...attribute, threshold: undefined }] })} follow={() => {}} />);
    fireEvent.click(screen.getByText("sectors reallocated"));
    expect(screen.getByText(/No threshold: it cannot fail/)).toBeTruthy();
  });
});

describe("raw pages", () => {
  it("show bytes, with a place inverted", () => {
    const { container } = render(
      <RawPages reading={reading({})} place={{ page: "ata/attributes", offset: 2, length: 2 }} choose={() => {}} />,
    );
    expect(Array.from(container.querySelectorAll(".hot"), (e) => e.textContent)).toEqual(["05", "33"]);
  });
  it("say why a page was not read", () => {
    const fault = { class: "not_passed", what: "SMART RETURN STATUS", back: "no registers", advice: "Try a direct port." };
    render(
      <RawPages
        reading={reading({ pages: [{ name: "ata/alarm", title: "The drive's own alarm", how: "", fault }] })}
        place={{ page: "ata/alarm", offset: 0, length: 0 }}
        choose={() => {}}
      />,
    );
    expect(screen.getByText("not available: SMART RETURN STATUS: no registers. Try a direct port.")).toBeTruthy();
  });
});

describe("the facts of a page", () => {
  const sheet = {
    page: "nvme/log-02",
    title: "Health log",
    facts: [
      {
        name: "Data units read",
        value: "340282366920938463463374607431768211455",
        number: true,
        unit: "x 512 000 B",
        offset: 32,
        length: 16,
      },
      { name: "Temperature", reason: "the drive reports none", unit: "°C", offset: 1, length: 2 },
    ],
  };
  it("keep a 128-bit counter exact and never write what is missing as a number", () => {
    const follow = vi.fn();
    render(<CounterTable reading={reading({ attributes: [], sheets: [sheet] })} follow={follow} />);
    expect(screen.getByText(/^340 282 366.*211 455 x 512 000 B$/)).toBeTruthy();
    expect(screen.getByText("not available: the drive reports none")).toBeTruthy();
    fireEvent.click(screen.getByRole("button", { name: "Data units read" }));
    expect(follow).toHaveBeenCalledWith({ page: "nvme/log-02", offset: 32, length: 16 });
  });
});

describe("logged errors", () => {
  it("show the commands before, and say when it was the host's doing", () => {
    const error = {
      command: "READ DMA EXT",
      meaning: "command aborted",
      host: true,
      before: ["READ DMA EXT, LBA 7, count 8", "READ DMA EXT"],
    };
    render(
      <LoggedErrors
        reading={reading({ error_total: 1, errors: [{ ...error, page: "ata/log-03", offset: 4, length: 124 }] })}
        follow={vi.fn()}
      />,
    );
    expect(screen.getByText("before it: READ DMA EXT, LBA 7, count 8")).toBeTruthy();
    expect(screen.getByText("· the host’s doing")).toBeTruthy();
    expect(screen.getByText("not available")).toBeTruthy();
  });
});

describe("self-tests", () => {
  it("never take an empty log for a pass", () => {
    render(<SelfTests tests={[]} follow={vi.fn()} />);
    expect(screen.getByText(/An empty slot is no pass/)).toBeTruthy();
  });
  it("tell a log that was not read from an empty one", () => {
    render(
      <SelfTests
        tests={[]}
        follow={vi.fn()}
        fault={{ class: "bad_answer", what: "x", back: "checksum wrong", advice: "Change the cable." }}
      />,
    );
    expect(screen.getByText("not available: checksum wrong. Change the cable.")).toBeTruthy();
  });
});

describe("what changed", () => {
  const row = (over: object) => ({ signal: "pending", words: "pending sectors", unit: "sectors", says: "s", matters: true, ...over });
  it("is what matters, and what is lost is not zero", () => {
    const comparison: Comparison = {
      before: { seq: 1, at, hours: 100 },
      now: { seq: 9, at: "2026-11-19T15:12:00Z", hours: 176 },
      rows: [
        row({ before: 0, now: 8, change: "+8" }),
        row({ signal: "cycles", words: "power cycles", matters: false, before: 1, now: 2, change: "+1" }),
        row({ signal: "crc", words: "link errors", matters: false, before: 4, reason: "the page is damaged" }),
      ],
    };
    render(<SinceLastVisit comparison={comparison} />);
    const rows = screen.getAllByRole("row").slice(1);
    expect(rows.map((r) => within(r).getAllByRole("cell")[0]?.textContent)).toEqual(["pending sectors", "link errors"]);
    expect(screen.getByText("not available: the page is damaged")).toBeTruthy();
    expect(screen.getByText(/7 days ago, powered on for 76 h since/)).toBeTruthy();
  });
});

describe("the timeline", () => {
  it("writes a day once and a verdict with its word", () => {
    const entries: Entry[] = [
      { at, kind: "verdict", text: { words: "for everyday, policy 7." }, grade: "healthy", hours: 20512 },
      { at, kind: "change", text: { words: "Pending sectors 0 to 8" } },
    ];
    const { container } = render(<Timeline entries={entries} />);
    expect(Array.from(container.querySelectorAll("li > span:first-child"), (e) => e.textContent)).toEqual(["12 Nov", ""]);
    expect(screen.getByText("healthy")).toBeTruthy();
    expect(screen.getByText("20 512 h")).toBeTruthy();
  });
});

describe("device statistics", () => {
  it("lead to their bytes and never take no value for zero", () => {
    const follow = vi.fn();
    const statistics = [
      { name: "Power-on Hours", unit: "h", value: 20512, normalized: false, offset: 528 },
      { name: "Pending Error Count", unit: "", normalized: false, offset: 576 },
    ];
    render(<DeviceStatistics reading={reading({ statistics })} follow={follow} />);
    fireEvent.click(screen.getByText("Power-on Hours"));
    expect(follow).toHaveBeenCalledWith({ page: "ata/log-04", offset: 528, length: 8 });
    expect(screen.getByText("20 512 h")).toBeTruthy();
    expect(screen.getByText("not available: the drive has no value now")).toBeTruthy();
  });
});

it("tells rules that were not judged under their one reason", () => {
  const reason = "no sweep of it has been made";
  const one = verdict({
    unjudged: [
      { rule: "a", title: "slow places", reason },
      { rule: "b", title: "their growth", reason },
      { rule: "c", title: "spare", reason: "not read" },
    ],
  });
  expect(notJudged(one)).toBe(" 2 not judged, no sweep of it has been made: slow places; their growth. 1 not judged, not read: spare.");
});
