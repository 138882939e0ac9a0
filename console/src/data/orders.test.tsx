import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { freshCache, playService, within } from "../testing/played";
import { data, ProblemError } from "./client";
import { useDesk, useOrders, usePolicyOrders, useSigning } from "./orders";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const serial = "KVA077M511";

/** Carries out what a hook offers, and tells what was asked of the service and what is asked for again afterwards. */
async function ordered<T>(hook: () => T, give: (offered: T) => void) {
  const asked = playService(() => ({ body: {} }));
  const cache = freshCache();
  for (const key of [
    ["bays"],
    ["drives"],
    ["drive", serial, "self"],
    ["drive", serial, "runs"],
    ["drive", serial, "verdict"],
    ["drive", serial, "readings"],
    ["drive", serial, "volumes"],
    ["drive", "OTHER", "self"],
    ["run", 7],
    ["lots"],
    ["queue"],
    ["policy"],
    ["session"],
  ])
    cache.setQueryData(key, {});
  const { result } = renderHook(hook, { wrapper: within(cache) });
  act(() => give(result.current));
  await waitFor(() => expect(asked).toHaveLength(1));
  await waitFor(() => expect(cache.isMutating()).toBe(0));
  const stale = cache
    .getQueryCache()
    .findAll({ stale: true })
    .map((q) => q.queryKey.filter((k) => k !== serial).join(" "));
  return { ...asked[0], stale };
}

const by =
  <T,>(hook: () => T) =>
  (give: (offered: T) => void) =>
  () =>
    ordered(hook, give);
const order = by(() => useOrders("Dov"));
const desk = by(() => useDesk("Dov"));
const draft = by(usePolicyOrders);

describe("an order", () => {
  it.each([
    ["attempt", order((o) => o.attempt.mutate("bay-3")), "POST", "/bays/bay-3/attempt?by=Dov", undefined, ["bays", "queue"]],
    [
      "bay",
      order((o) => o.setBay.mutate({ bay: "bay-3", label: "left dock" })),
      "PATCH",
      "/bays/bay-3",
      { label: "left dock", by: "Dov" },
      ["bays", "queue"],
    ],
    [
      "order of bays",
      order((o) => o.arrange.mutate(["bay-2", "bay-1"])),
      "PUT",
      "/bay-order",
      { bays: ["bay-2", "bay-1"], by: "Dov" },
      ["bays", "queue"],
    ],
    ["copy", order((o) => o.copied.mutate("field/2")), "POST", "/bays/field%2F2/copy", { by: "Dov" }, ["bays", "drives", "lots"]],
    [
      "check",
      order((o) => o.check.mutate({ serial, kind: "quick", despite: "the owner waits" })),
      "POST",
      `/drives/${serial}/checks`,
      { kind: "quick", by: "Dov", despite: "the owner waits" },
      ["bays", "drive runs", "queue"],
    ],
    [
      "duty",
      order((o) => o.duty.mutate({ serial, duty: "carry" })),
      "PATCH",
      `/drives/${serial}`,
      { duty: "carry", by: "Dov" },
      ["bays", "drives", "drive self", "drive verdict", "lots"],
    ],
    [
      "release",
      order((o) => o.release.mutate({ serial, scope: "mend", owner: "by phone" })),
      "PUT",
      `/drives/${serial}/release`,
      { scope: "mend", owner: "by phone", by: "Dov" },
      ["bays", "drives", "drive self", "lots"],
    ],
    [
      "rework",
      order((o) => o.rework.mutate({ serial, kind: "mend", ending: "7M511" })),
      "POST",
      `/drives/${serial}/reworks`,
      { kind: "mend", ending: "7M511", by: "Dov" },
      ["bays", "drive runs", "queue"],
    ],
    [
      "reading",
      order((o) => o.read.mutate(serial)),
      "POST",
      `/drives/${serial}/readings`,
      { by: "Dov" },
      ["bays", "drives", "drive self", "drive verdict", "drive readings", "lots"],
    ],
    [
      "look at volumes",
      order((o) => o.volumes.mutate(serial)),
      "POST",
      `/drives/${serial}/volumes`,
      { by: "Dov" },
      ["drive self", "drive volumes"],
    ],
    ["stop", order((o) => o.stop.mutate(7)), "POST", "/runs/7/stop", { by: "Dov" }, ["bays", "run 7", "queue"]],
    ["pause", order((o) => o.pause.mutate(7)), "POST", "/runs/7/pause", { by: "Dov" }, ["bays", "run 7", "queue"]],
    ["resume", order((o) => o.resume.mutate(7)), "POST", "/runs/7/resume", { by: "Dov" }, ["bays", "run 7", "queue"]],
    [
      "signature",
      order((o) => o.sign.mutate({ serial, verdict: 4, grade: "replace", reason: "it clicks" })),
      "POST",
      `/drives/${serial}/verdict/sign-off`,
      { by: "Dov", verdict: 4, grade: "replace", reason: "it clicks" },
      ["bays", "drives", "drive self", "drive verdict", "lots"],
    ],
    [
      "intake",
      desk((d) => d.takeIn.mutate({ bay: "bay-1", wanted: true, copied: false, duty: "everyday" })),
      "POST",
      "/intakes",
      { bay: "bay-1", wanted: true, copied: false, duty: "everyday", by: "Dov" },
      ["bays", "drives", "lots"],
    ],
    [
      "correction",
      desk((d) => d.putRight.mutate({ intake: 4, serial, wanted: true })),
      "PATCH",
      "/intakes/4",
      { wanted: true, by: "Dov" },
      ["bays", "drives", "drive self", "lots"],
    ],
    [
      "handover",
      desk((d) => d.handOver.mutate({ intake: 4, serial, goes: "returned" })),
      "POST",
      "/intakes/4/handover",
      { goes: "returned", by: "Dov" },
      ["bays", "drives", "drive self", "lots"],
    ],
    [
      "lot",
      desk((d) => d.openLot.mutate({ ticket: "2240", duty: "carry" })),
      "POST",
      "/lots",
      { ticket: "2240", duty: "carry", by: "Dov" },
      ["bays", "lots", "queue"],
    ],
    ["end of a lot", desk((d) => d.endLot.mutate(3)), "POST", "/lots/3/end", { by: "Dov" }, ["bays", "lots", "queue"]],
    [
      "signatures together",
      desk((d) => d.signTogether.mutate([serial])),
      "POST",
      "/verdicts/sign-off",
      { by: "Dov", drives: [serial] },
      ["bays", "drives", "lots"],
    ],
    ["replay", draft((p) => p.replay.mutate("rules: []")), "POST", "/policy/replay", { text: "rules: []" }, []],
    [
      "policy",
      draft((p) => p.publish.mutate({ text: "rules: []", note: "why", by: "Dov" })),
      "PUT",
      "/policy",
      { text: "rules: []", note: "why", by: "Dov" },
      [
        "bays",
        "drives",
        "drive self",
        "drive runs",
        "drive verdict",
        "drive readings",
        "drive volumes",
        "drive OTHER self",
        "lots",
        "policy",
      ],
    ],
  ] as [string, ReturnType<typeof order>, string, string, unknown, string[]][])(
    "%s: one request, and what it changes is asked for again",
    async (_name, carryOut, method, path, body, stale) => {
      const was = await carryOut();
      expect([was.method, was.path, was.body]).toEqual([method, path, body]);
      expect(was.stale.sort()).toEqual([...stale].sort());
    },
  );

  it("signs in and out, and everything is asked for again", async () => {
    const entered = await ordered(useSigning, (s) => s.enter.mutate({ name: "Dov", password: "secret" }));
    expect([entered.method, entered.path, entered.body]).toEqual(["POST", "/session", { name: "Dov", password: "secret" }]);
    expect(entered.stale).toHaveLength(13);
    const left = await ordered(useSigning, (s) => s.leave.mutate());
    expect([left.method, left.path]).toEqual(["DELETE", "/session"]);
    expect(left.stale).toHaveLength(13);
  });
});

describe("an answer", () => {
  it("is its data, or a problem with its advice", async () => {
    expect(await data(Promise.resolve({ data: 7 }))).toBe(7);
    const refused = data(
      Promise.resolve({ error: { title: "Conflict", status: 409, detail: "run 7 is under way", advice: "Wait for its end." } }),
    );
    await expect(refused).rejects.toThrow(
      new ProblemError({ title: "Conflict", status: 409, detail: "run 7 is under way", advice: "Wait for its end." }),
    );
    await expect(refused).rejects.toThrow("Run 7 is under way. Wait for its end.");
    await expect(data(Promise.resolve({ error: { title: "Broken", status: 500, detail: "the disk is full" } }))).rejects.toThrow(
      /^The disk is full$/,
    );
  });
});
