/// <reference types="node" />
import { existsSync, readFileSync, writeFileSync } from "node:fs";
import { gunzipSync, gzipSync } from "node:zlib";
import { cleanup, render, waitFor } from "@testing-library/react";
import { Suspense } from "react";
import { createMemoryRouter, RouterProvider } from "react-router";
import { afterAll, afterEach, beforeAll, beforeEach, describe, expect, it, vi } from "vitest";
import { routes } from "../routes";
import { freshCache, played, playLines, playService, within } from "../testing/played";
import { said } from "../testing/said";

/**
 * Pages as they stand over a service of which the answers were recorded: `make recorded` records them from the demo. What each page says is
 * in said/, to be read when it changes: npx vitest run -u.
 */
const file = "src/testing/recorded.json.gz";
const from = process.env.RECORD;
const recorded: { at: string; answers: Record<string, { status: number; body: unknown }> } =
  !from && existsSync(file) ? JSON.parse(gunzipSync(readFileSync(file)).toString()) : { at: new Date().toISOString(), answers: {} };

class Seen {
  constructor(readonly tell: (all: { isIntersecting: boolean; target: Element }[]) => void) {}
  observe(target: Element) {
    this.tell([{ isIntersecting: true, target }]);
  }
  unobserve() {}
  disconnect() {}
}
class Sized {
  observe() {}
  unobserve() {}
  disconnect() {}
}

beforeEach(() => {
  playLines();
  localStorage.clear();
  vi.stubGlobal("IntersectionObserver", Seen);
  vi.stubGlobal("ResizeObserver", Sized);
  vi.stubGlobal("matchMedia", () => ({ matches: false, addEventListener() {}, removeEventListener() {} }));
  vi.spyOn(HTMLElement.prototype, "offsetHeight", "get").mockReturnValue(800);
  vi.spyOn(HTMLElement.prototype, "offsetWidth", "get").mockReturnValue(1280);
  vi.spyOn(HTMLElement.prototype, "clientWidth", "get").mockReturnValue(1280);
  HTMLCanvasElement.prototype.getContext = (() => null) as never;
  Element.prototype.scrollIntoView = () => {};
  vi.useFakeTimers({ toFake: ["Date"], now: new Date(recorded.at) });
});
afterEach(() => {
  cleanup();
  vi.useRealTimers();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

/** Opens an address over what was recorded. */
async function open(address: string) {
  const asked = playService(async ({ method, path }) => {
    const key = `${method} ${path}`;
    if (from && !recorded.answers[key]) {
      const real = await played(`${from}/api/v1${path}`);
      recorded.answers[key] = { status: real.status, body: await real.json() };
    }
    return recorded.answers[key] ?? { status: 404, body: { title: "Not found", status: 404, detail: `nothing was recorded for ${key}` } };
  });
  const router = createMemoryRouter(routes, { initialEntries: [address] });
  const cache = freshCache();
  const Cached = within(cache);
  const { container } = render(
    <Cached>
      <Suspense fallback="">
        <RouterProvider router={router} />
      </Suspense>
    </Cached>,
  );
  const settled = async () => {
    let [before, times] = ["", 0];
    await waitFor(
      () => {
        const now = said(container);
        const idle = cache.isFetching() + cache.isMutating() === 0; // nothing is on its way, however slow the machine
        times = idle && now === before && now.length > 1 && !now.includes("Fetching") ? times + 1 : 0;
        before = now;
        if (times < 2) throw new Error("it changes still");
      },
      { timeout: 25_000, interval: from ? 400 : 60 },
    );
  };
  await settled();
  return { asked, container, router, settled };
}

// Pages are fetched when they are first opened; a test is not to wait for that.
beforeAll(async () => {
  await Promise.all(Object.values(import.meta.glob("./*Page.tsx")).map((page) => page()));
});

describe("a page", () => {
  it.each([
    ["bench", "/"],
    ["bays", "/bays"],
    ["drives", "/drives"],
    ["drives found", "/drives?q=7M5"],
    ["drive", "/drives/KVA077M4Q2"],
    ["drive of SCSI", "/drives/OSS0419Z4K"],
    ["drive of NVMe", "/drives/BWN11Q7E30"],
    ["run", "/runs/1"],
    ["check", "/runs/2"],
    ["lots", "/lots"],
    ["lot", "/lots/1"],
    ["policy", "/policy"],
    ["alerts", "/alerts"],
    ["watch", "/watch"],
    ["intake", "/intake"],
    ["intake of a bay", "/intake?bay=bay-2"],
    ["no drive", "/drives/NONE"],
    ["no page", "/nowhere"],
  ])("%s says what its answers hold", async (name, address) => {
    const { container } = await open(address);
    await expect(said(container)).toMatchFileSnapshot(`../testing/said/${name.replace(/\W+/g, "-")}.txt`);
  });
});

afterAll(() => {
  if (from) writeFileSync(file, gzipSync(JSON.stringify(recorded)));
});
