import { act, cleanup, renderHook } from "@testing-library/react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { freshCache, PlayedLine, playLines, within } from "../testing/played";
import { useDraft, useSettled } from "./draft";
import { useEvents } from "./events";
import { emptyDraft, useIntakeDraft } from "./intakeDraft";
import { cellsOf, useLive } from "./live";
import { usePersonState } from "./person";
import type { Live, Sweep } from "./types";

beforeEach(() => {
  playLines();
  localStorage.clear();
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

const standing = (share: number, celsius?: number) => ({ sectors: 800, logical: 512, physical: 4096, share, celsius });

const live = (state: string, share: number, segments: Live["segments"], celsius?: number) =>
  ({
    run: {
      id: 7,
      state,
      steps: [{ kind: "reading_before" }, { kind: "whole_sweep", sweep: standing(share, celsius) }, { kind: "reading_after" }],
    },
    segments,
  }) as unknown as Live;

const kept = {
  cells: 100,
  segments: [{ first: 0, speeds: [50_000], classes: "1", unread: [] }],
  heat: [{ share: 0, celsius: 30 }],
} as unknown as Sweep;

const follow = (open = true, sweep: Sweep | null = kept) => {
  const cache = freshCache();
  const hook = renderHook(({ open, sweep }) => useLive(7, open, sweep), { wrapper: within(cache), initialProps: { open, sweep } });
  return { ...hook, cache, line: PlayedLine.open[0] as PlayedLine };
};

describe("a run that is followed", () => {
  it("has as many cells as there are physical sectors, and no more than a ribbon holds", () => {
    expect(cellsOf({ sectors: 800, logical: 512, physical: 4096 })).toBe(100);
    expect(cellsOf({ sectors: 801, logical: 512, physical: 4096 })).toBe(101);
    expect(cellsOf({ sectors: 4e9, logical: 512, physical: 4096 })).toBe(16384);
  });

  it("begins with what is kept of its sweep, and goes on with what comes", () => {
    const { result, line } = follow();
    expect(line.url).toBe("/api/v1/runs/7/live");
    expect(result.current.cells?.speeds[0]).toBe(50);
    expect(result.current.heat).toEqual([{ share: 0, celsius: 30 }]);
    const before = result.current.version;
    act(() =>
      line.say("change", live("running", 0.5, [{ first: 1, speeds: [60_000], classes: "2", unread: [{ cell: 3, sectors: 2 }] }], 35)),
    );
    expect(result.current.run?.state).toBe("running");
    expect([result.current.cells?.speeds[0], result.current.cells?.speeds[1], result.current.cells?.unread[3]]).toEqual([50, 60, 2]);
    expect(result.current.version).toBeGreaterThan(before);
    expect(result.current.heat).toEqual([
      { share: 0, celsius: 30 },
      { share: 0.5, celsius: 35 },
    ]);
    act(() => line.say("change", live("running", 0.501, [], 36)));
    expect(result.current.heat).toHaveLength(2);
    act(() => line.say("change", live("running", 0.6, [])));
    expect(result.current.heat).toHaveLength(2);
  });

  it("begins anew with a snapshot that has something, and with another number of cells", () => {
    const { result, line } = follow();
    act(() => line.say("snapshot", live("running", 0.5, [])));
    expect(result.current.cells?.speeds[0]).toBe(50);
    act(() => line.say("snapshot", live("running", 0.5, [{ first: 1, speeds: [60_000], classes: "2", unread: [] }])));
    expect([result.current.cells?.speeds[0], result.current.cells?.speeds[1]]).toEqual([0, 60]);
    const other = live("running", 0.5, []);
    (other.run.steps[1] as unknown as { sweep: { sectors: number } }).sweep.sectors = 80;
    act(() => line.say("change", other));
    expect(result.current.cells?.count).toBe(10);
  });

  it("asks for the run once more when it is done, and listens no longer", () => {
    const { result, line, cache } = follow(true, null);
    cache.setQueryData(["run", 7], {});
    expect(result.current.cells).toBeUndefined();
    act(() => line.say("change", live("running", 0.5, [])));
    expect(cache.getQueryState(["run", 7])?.isInvalidated).toBe(false);
    expect(line.closed).toBe(false);
    act(() => line.say("change", live("done", 1, [])));
    expect(cache.getQueryState(["run", 7])?.isInvalidated).toBe(true);
    expect(line.closed).toBe(true);
  });

  it("is not listened to while it is not open, nor after the page is left", () => {
    const { rerender, unmount } = follow(false);
    expect(PlayedLine.open).toHaveLength(0);
    rerender({ open: true, sweep: kept });
    expect(PlayedLine.open).toHaveLength(1);
    unmount();
    expect(PlayedLine.open[0]?.closed).toBe(true);
  });
});

describe("the service's line", () => {
  const listen = (admitted: boolean) => {
    const cache = freshCache();
    cache.setQueryData(["bays"], []);
    const hook = renderHook(({ admitted }) => useEvents(admitted), { wrapper: within(cache), initialProps: { admitted } });
    return { ...hook, cache, line: PlayedLine.open[0] as PlayedLine };
  };

  it("is not opened before the service would answer", () => {
    const { rerender } = listen(false);
    expect(PlayedLine.open).toHaveLength(0);
    rerender({ admitted: true });
    expect(PlayedLine.open[0]?.url).toBe("/api/v1/events");
  });

  it("tells what happened last, and has it asked for again", () => {
    const { result, line, cache } = listen(true);
    act(() => line.say("fact", { seq: 1, kind: "bay.changed", serial: "X", text: { words: "Bay 3 is empty." } }));
    expect(result.current.said).toBe("Bay 3 is empty.");
    expect(cache.getQueryState(["bays"])?.isInvalidated).toBe(true);
    act(() => line.say("progress", { seq: 0, kind: "run.progress", run: 7, percent: 40 }));
    expect(result.current.said).toBe("Bay 3 is empty.");
  });

  it("says since when it is lost, once, and asks for everything when it is back", () => {
    const { result, line, cache, unmount } = listen(true);
    vi.useFakeTimers({ toFake: ["Date"], now: new Date("2026-11-12T15:12:00Z") });
    act(() => line.say("error"));
    vi.setSystemTime(new Date("2026-11-12T15:14:00Z"));
    act(() => line.say("error"));
    expect(result.current.lost).toEqual(new Date("2026-11-12T15:12:00Z"));
    expect(cache.getQueryState(["bays"])?.isInvalidated).toBe(false);
    act(() => line.say("open"));
    expect(result.current).toEqual({ said: "Connected again." });
    expect(cache.getQueryState(["bays"])?.isInvalidated).toBe(true);
    act(() => line.say("open"));
    expect(result.current.said).toBe("Connected again.");
    unmount();
    expect(line.closed).toBe(true);
  });
});

describe("what stays in this browser", () => {
  it("is who stands at the bench, unless somebody signed in", () => {
    const { result } = renderHook(({ signedIn }) => usePersonState(signedIn), {
      initialProps: { signedIn: undefined as string | undefined },
    });
    expect(result.current.name).toBe("");
    act(() => result.current.rename("Imre"));
    expect(result.current.name).toBe("Imre");
    expect(renderHook(() => usePersonState()).result.current.name).toBe("Imre");
    expect(renderHook(() => usePersonState("Dov")).result.current.name).toBe("Dov");
  });

  it("is a draft of the policy, until it is discarded; nobody else's text is taken for one", () => {
    const { result } = renderHook(() => useDraft());
    expect(result.current[0]).toBeUndefined();
    act(() => result.current[1]({ from: 6, text: "rules: []" }));
    expect(renderHook(() => useDraft()).result.current[0]).toEqual({ from: 6, text: "rules: []" });
    act(() => result.current[1](undefined));
    expect(renderHook(() => useDraft()).result.current[0]).toBeUndefined();
    for (const other of ["{", '{"from": 6}', '{"text": "rules"}', '{"from": "6", "text": "rules"}', "7"]) {
      localStorage.setItem("hylostat.draft", other);
      expect(renderHook(() => useDraft()).result.current[0]).toBeUndefined();
    }
  });

  it("is an intake, until the drive is taken in", () => {
    const { result } = renderHook(() => useIntakeDraft());
    expect(result.current[0]).toEqual(emptyDraft);
    act(() => result.current[1]({ complaint: "clicks", bay: "bay-2" }));
    act(() => result.current[1]({ ticket: "2214" }));
    const again = renderHook(() => useIntakeDraft("bay-5")).result;
    expect(again.current[0]).toEqual({ ...emptyDraft, complaint: "clicks", ticket: "2214", bay: "bay-5" });
    act(() => result.current[2]());
    expect(result.current[0]).toEqual(emptyDraft);
    expect(renderHook(() => useIntakeDraft()).result.current[0]).toEqual(emptyDraft);
    localStorage.setItem("hylostat.intake", "{");
    expect(renderHook(() => useIntakeDraft()).result.current[0]).toEqual(emptyDraft);
  });
});

it("a value settles after a while, and not before", () => {
  vi.useFakeTimers();
  const { result, rerender } = renderHook(({ value }) => useSettled(value, 300), { initialProps: { value: "a" } });
  rerender({ value: "b" });
  act(() => vi.advanceTimersByTime(200));
  rerender({ value: "c" });
  act(() => vi.advanceTimersByTime(200));
  expect(result.current).toBe("a");
  act(() => vi.advanceTimersByTime(100));
  expect(result.current).toBe("c");
});
