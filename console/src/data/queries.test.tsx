import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { freshCache, playService, within } from "../testing/played";
import * as ask from "./queries";
import type { Drive, Run } from "./types";

afterEach(cleanup);

const serial = "KVA 1/2";
const known = (more: Partial<Drive> = {}) => ({ serial, ...more }) as Drive;
const run = (kind: Run["kind"], sweeps: boolean) =>
  ({ id: 7, kind, steps: [{ kind: "reading_before" }, sweeps ? { sweep: {} } : {}] }) as Run;

describe("what is asked of the service", () => {
  it.each<[string, () => { data?: unknown }, string | undefined]>([
    ["the service", () => ask.useService(), "/service"],
    ["the session", () => ask.useSession(), "/session"],
    ["the bays", () => ask.useBays(), "/bays"],
    ["the queue of the shop's own bench", () => ask.useQueue(""), "/plan?bench="],
    ["the queue of another", () => ask.useQueue("field"), "/plan?bench=field"],
    ["the policy", () => ask.usePolicy(), "/policy"],
    ["a draft", () => ask.usePolicyTest("rules: []"), "/policy/test"],
    ["the lots", () => ask.useLots(), "/lots"],
    ["a lot", () => ask.useLot(3), "/lots/3"],
    ["a drive", () => ask.useDrive(serial), "/drives/KVA%201%2F2"],
    ["its verdict", () => ask.useVerdict(serial), "/drives/KVA%201%2F2/verdict"],
    ["its signals", () => ask.useSignals(serial), "/drives/KVA%201%2F2/signals"],
    ["its history", () => ask.useHistory(serial), "/drives/KVA%201%2F2/history"],
    ["its siblings", () => ask.useSiblings(serial), "/drives/KVA%201%2F2/siblings"],
    ["its readings", () => ask.useReadings(serial), "/drives/KVA%201%2F2/readings"],
    ["its sweeps", () => ask.useSweeps(serial), "/drives/KVA%201%2F2/sweeps"],
    ["its open runs", () => ask.useRuns(serial), "/runs?drive=KVA%201%2F2&open=true"],
    ["readings compared", () => ask.useComparison(serial), "/drives/KVA%201%2F2/comparison"],
    ["two readings compared", () => ask.useComparison(serial, 1, 3), "/drives/KVA%201%2F2/comparison?before=1&now=3"],
    ["a reading", () => ask.useReading(serial, "latest"), "/drives/KVA%201%2F2/readings/latest?raw=false"],
    ["its bytes", () => ask.useBytes(serial, "4", true), "/drives/KVA%201%2F2/readings/4?raw=true"],
    ["its bytes, when nobody looks", () => ask.useBytes(serial, "4", false), undefined],
    ["file systems", () => ask.useVolumes(known({ volumes_at: "2026-11-02T09:30:00Z" })), "/drives/KVA%201%2F2/volumes"],
    ["file systems nobody looked at", () => ask.useVolumes(known()), undefined],
    ["a run", () => ask.useRun(7), "/runs/7"],
    ["a rework", () => ask.useRework(run("renew", true)), "/runs/7/rework"],
    ["what a check wrote", () => ask.useRework(run("quick", true)), undefined],
    ["a sweep", () => ask.useSweep(run("quick", true)), "/runs/7/sweep"],
    ["the sweep of a run without one", () => ask.useSweep(run("quick", false)), undefined],
    ["an earlier sweep", () => ask.useEarlierSweep(4), "/runs/4/sweep"],
    ["no earlier sweep", () => ask.useEarlierSweep(undefined), undefined],
    ["two sweeps compared", () => ask.useDifferences(7, 4), "/runs/7/differences?earlier=4"],
    ["a sweep compared with nothing", () => ask.useDifferences(7, undefined), undefined],
  ])("%s", async (_, hook, path) => {
    const asked = playService((of) => ({ body: { of: of.path } }));
    const { result } = renderHook(hook, { wrapper: within(freshCache()) });
    if (path === undefined) {
      await new Promise((later) => setTimeout(later));
      expect(asked).toEqual([]);
      return;
    }
    await waitFor(() => expect(result.current.data).toEqual({ of: path }));
    expect(asked.map((a) => a.path)).toEqual([path]);
  });

  it("asks in one question what it wants of a drive in one moment", async () => {
    const asked = playService(({ path }) =>
      path.endsWith("/page")
        ? { body: { drive: { serial }, signals: { of: "signals" }, history: [], reading: { seq: 4 } } }
        : { status: 404, body: { title: "no verdict yet" } },
    );
    const { result } = renderHook(() => [ask.useDrivePage(serial), ask.useSignals(serial), ask.useVerdict(serial)] as const, {
      wrapper: within(freshCache()),
    });
    await waitFor(() => expect(result.current[2].isError).toBe(true));
    expect(result.current[0].data).toEqual({ serial });
    expect(result.current[1].data).toEqual({ of: "signals" });
    expect(asked.map((a) => a.path)).toEqual(["/drives/KVA%201%2F2/page", "/drives/KVA%201%2F2/verdict"]);
  });

  it("draws drives page by page, and keeps what is shown while others are looked for", async () => {
    const all = Array.from({ length: 401 }, (_, n) => ({ serial: `S${1000 + n}` }));
    let hold = Promise.resolve();
    const asked = playService(async ({ path }) => {
      await hold;
      const after = new URL(path, "http://shop.example").searchParams.get("after") ?? "";
      const rows = all.filter((d) => d.serial > after).slice(0, 200);
      return { body: rows, link: rows.length < 200 ? undefined : `</api/v1/drives?limit=200&after=${rows[199]?.serial}>; rel="next"` };
    });
    const { result, rerender } = renderHook((by: ask.Looked) => ask.useDrives(by), {
      initialProps: {},
      wrapper: within(freshCache()),
    });
    await waitFor(() => expect(result.current.data?.pages).toHaveLength(1));
    for (const pages of [2, 3]) {
      expect(result.current.hasNextPage).toBe(true);
      act(() => void result.current.fetchNextPage());
      await waitFor(() => expect(result.current.data?.pages).toHaveLength(pages));
    }
    expect(result.current.hasNextPage).toBe(false);
    expect(asked.map((a) => a.path)).toEqual(
      ["", "S1199", "S1399"].map((after) => `/drives?sort=urgency&${after && `after=${after}&`}limit=200`),
    );
    let release = () => {};
    hold = new Promise((r) => (release = r));
    rerender({ q: "S10", grade: "replace" });
    expect(result.current.data?.pages).toHaveLength(3);
    expect(result.current.isPlaceholderData).toBe(true);
    release();
    await waitFor(() => expect(result.current.isPlaceholderData).toBe(false));
    expect(asked.at(-1)?.path).toBe("/drives?q=S10&grade=replace&sort=urgency&limit=200");
  });

  it("keeps what a draft said while the next one is tried, and asks once", async () => {
    const asked = playService(({ body }) =>
      (body as { text: string }).text === "wrong"
        ? { status: 400, body: { title: "Not understood", detail: "line 1" } }
        : { body: { trials: 3 } },
    );
    const { result, rerender } = renderHook((text: string) => ask.usePolicyTest(text), {
      initialProps: "rules: []",
      wrapper: within(freshCache()),
    });
    await waitFor(() => expect(result.current.data).toEqual({ trials: 3 }));
    rerender("wrong");
    expect(result.current.data).toEqual({ trials: 3 });
    await waitFor(() => expect(result.current.error?.message).toBe("Line 1"));
    expect(asked.map((a) => a.body)).toEqual([{ text: "rules: []" }, { text: "wrong" }]);
  });
});
