import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { describe, expect, it, vi } from "vitest";
import { apply } from "./events";
import { sound } from "./sound";
import type { Bay, Run } from "./types";

const run: Run = {
  id: 7,
  kind: "quick",
  title: "Quick check",
  bay: "bay-1",
  serial: "KVA077M511",
  model: "K4",
  by: "Dov",
  state: "running",
  standing: { words: "short self-test" },
  percent: 20,
  left_s: 80,
  asked: "2026-11-12T15:12:00Z",
  steps: [],
};
const bay: Bay = {
  name: "bay-1",
  bench: "",
  number: 1,
  address: "a",
  connection: "answering",
  attempts: 0,
  since: "2026-11-12T15:12:00Z",
  doing: { words: "" },
  action: "open",
  next: { words: "wait" },
  run,
};

const progress = (percent: number) => ({
  seq: 0,
  at: "2026-11-12T15:13:00Z",
  kind: "run.progress" as const,
  run: 7,
  bay: "bay-1",
  serial: "KVA077M511",
  percent,
});

describe("progress", () => {
  it("is patched in and never goes back", () => {
    const cache = new QueryClient();
    cache.setQueryData(["bays"], [bay]);
    apply(cache, progress(60));
    const shown = () => cache.getQueryData<Bay[]>(["bays"])?.[0]?.run;
    expect(shown()?.percent).toBe(60);
    expect(shown()?.left_s).toBe(40);
    apply(cache, progress(40));
    expect(shown()?.percent).toBe(60);
  });

  it("is that of its run alone, in its bay and in its drive's runs", () => {
    const cache = new QueryClient();
    const other = { ...run, id: 8 };
    const bays = [bay, { ...bay, number: 2, run: other }, { ...bay, number: 3, run: undefined }];
    cache.setQueryData(["bays"], bays);
    cache.setQueryData(["drive", "KVA077M511", "runs"], [other, run]);
    apply(cache, progress(60));
    const shown = cache.getQueryData<Bay[]>(["bays"]);
    expect(shown?.map((b) => b.run?.percent)).toEqual([60, 20, undefined]);
    expect(shown?.[1]?.run).toBe(other);
    expect(cache.getQueryData<Run[]>(["drive", "KVA077M511", "runs"])?.map((r) => r.percent)).toEqual([20, 60]);
    const before = cache.getQueryData<Bay[]>(["bays"])?.[0]?.run;
    apply(cache, progress(60));
    apply(cache, { ...progress(60), percent: undefined });
    expect(cache.getQueryData<Bay[]>(["bays"])?.[0]?.run).toBe(before);
  });

  it("of a run that is through leaves no time, and none is made up where nothing is shown", () => {
    const cache = new QueryClient();
    apply(cache, { ...progress(60), serial: undefined });
    expect(cache.getQueryData(["bays"])).toBeUndefined();
    expect(cache.getQueryCache().getAll()).toEqual([]);
    cache.setQueryData(["bays"], [{ ...bay, run: { ...run, percent: 100, left_s: 5 } }]);
    apply(cache, progress(101));
    expect(cache.getQueryData<Bay[]>(["bays"])?.[0]?.run?.left_s).toBe(0);
  });
});

describe("a fact", () => {
  it("has its drive and the lists asked for again, and no other drive", () => {
    const cache = new QueryClient();
    for (const key of [["bays"], ["drive", "A", "verdict"], ["drive", "B", "verdict"]]) cache.setQueryData(key, {});
    apply(cache, { seq: 3, at: "2026-11-12T15:13:00Z", kind: "verdict.changed", serial: "A" });
    const stale = (key: unknown[]) => cache.getQueryState(key)?.isInvalidated;
    expect([stale(["bays"]), stale(["drive", "A", "verdict"]), stale(["drive", "B", "verdict"])]).toEqual([true, true, false]);
  });
});

it("a fact that comes before the first answer has that asked for again", async () => {
  const cache = new QueryClient();
  const answers = ["older than the fact", "the truth"];
  const ask = vi.fn(
    () => new Promise<string>((come) => setTimeout(() => come(answers[ask.mock.calls.length - 1] ?? "once too often"), 10)),
  );
  const seen = new QueryObserver(cache, { queryKey: ["drive", "KVA077M4Q2", "runs"], queryFn: ask });
  const leave = seen.subscribe(() => undefined);
  apply(cache, { seq: 7, at: "2026-11-25T12:00:00Z", kind: "run.changed", serial: "KVA077M4Q2", run: 1 });
  await vi.waitFor(() => expect(seen.getCurrentResult().data).toBe("the truth"));
  expect(ask).toHaveBeenCalledTimes(2);
  leave();
});

it("sounds for whom an alert is told", () => {
  const play = vi.spyOn(sound, "play").mockImplementation(() => {});
  const told = { seq: 0, at: "2026-11-12T15:13:00Z", kind: "alert.told" as const, alert: 4, severity: "wake" as const };
  apply(new QueryClient(), told, "Imre");
  apply(new QueryClient(), { ...told, people: ["Dov", "Orla"] }, "Imre");
  apply(new QueryClient(), { ...told, people: ["Dov", "Orla"] });
  apply(new QueryClient(), { ...told, people: ["Dov", "Orla"] }, "Dov");
  expect(play).toHaveBeenCalledTimes(2);
});
