import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
/// <reference types="node" />
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { type ReactNode, Suspense } from "react";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type {
  Alert,
  Bay,
  Drive,
  PolicyRule,
  Queue,
  Replay,
  ReplayDrive,
  Route,
  Sweep,
  SweepStanding,
  Verdict,
  WatchPlan,
} from "../data/types";
import { said } from "../testing/said";
import { BayCard } from "./BayCard";
import { BayList } from "./BayList";
import { BenchStrip } from "./BenchStrip";
import { emptyCells, fill } from "./cells";
import { DriveDialogs, type DriveQuestion } from "./DriveDialogs";
import { Learnt, Replayed, Rule, unknownRule, Versions } from "./PolicyParts";
import { QuietHours } from "./QuietHours";
import { Ribbon, type RibbonProps } from "./Ribbon";
import { Changes, placesOf, SweepPlaces } from "./RunParts";
import { LoadStrip, PlanForm } from "./WatchParts";

/** What parts say of what they are given, one variant after the other: said/, to be read when it changes: npx vitest run -u. */
class Sized {
  observe() {}
  unobserve() {}
  disconnect() {}
}
beforeEach(() => vi.stubGlobal("ResizeObserver", Sized));
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
  vi.restoreAllMocks();
});

const shown = (part: ReactNode) => {
  const { container, unmount } = render(
    <MemoryRouter>
      <Suspense>{part}</Suspense>
    </MemoryRouter>,
  );
  const words = said(document.body.querySelector("[role=dialog]") ?? container);
  unmount();
  return words;
};
const variants = (all: [name: string, part: ReactNode][]) => all.map(([name, part]) => `== ${name}\n${shown(part)}`).join("\n");

const at = "2026-11-12T15:12:00Z";
const drive = (over: Partial<Drive> = {}): Drive => ({
  serial: "KVA077M511",
  model: "Korvan K4-2000",
  interface: "ata",
  smart: { supported: true, enabled: true },
  self_test: { supported: true, enabled: true },
  security: { supported: false, enabled: false, locked: false, frozen: false, count_expired: false },
  duty: "everyday",
  grade: "degrading",
  readings: 3,
  first_seen: at,
  ...over,
});
const bay = (over: Partial<Bay> = {}): Bay => ({
  name: "bay-3",
  bench: "",
  number: 3,
  address: "pci-0000:00:1f.2-ata-3",
  connection: "answering",
  attempts: 0,
  since: at,
  action: "review",
  doing: { words: "3 reallocated sectors" },
  next: { words: "review" },
  ...over,
});
const security = { ...drive().security, locked: true };
const attached = { node: "sdc", transport: "USB", bytes: 2_000_398_934_016 };
const intake = { id: 7, bay: "bay-3", by: "Dov", at, wanted: false, copied: false, at_risk: false, duty: "" as const };
const bays: [string, Bay][] = [
  ["a drive", bay({ drive: drive({ bytes: 2_000_398_934_016 }) })],
  ["read once", bay({ drive: drive({ readings: 1 }) })],
  ["a customer's", bay({ drive: drive(), intake: { ...intake, customer: "Pellwick Spit" } as never })],
  ["flash", bay({ drive: drive({ medium: "flash", interface: "nvme" }) })],
  ["flash behind nobody knows what", bay({ drive: drive({ medium: "flash", interface: "unknown" }) })],
  ["to be replaced", bay({ drive: drive({ grade: "replace" }), action: "sign" })],
  ["locked", bay({ drive: drive({ security }) })],
  ["to be copied", bay({ drive: drive(), action: "record_copy" })],
  ["stuck", bay({ connection: "stuck" })],
  ["empty", bay({ connection: "empty" })],
  ["an adapter", bay({ connection: "unread", attached: { ...attached, model: "Dock", serial: "OXD60A" } as never })],
  ["an adapter without a name", bay({ connection: "unread", attached: attached as never })],
  ["an intake", bay({ connection: "silent", intake: intake as never })],
  ["an intake with a label", bay({ connection: "silent", intake: { ...intake, label: "2 TB" } as never })],
  ["silent", bay({ connection: "silent", label: "left dock" })],
];

const queue = (over: Partial<Queue>): Queue => ({ bench: "", going: 0, waiting: 0, done: 0, words: [], ...over }) as Queue;

describe("parts", () => {
  it("a bay's card", async () => {
    await expect(variants(bays.map(([name, b]) => [name, <BayCard key={name} bay={b} act={() => {}} />]))).toMatchFileSnapshot(
      "../testing/said/part-bay.txt",
    );
  });

  it("the strip of a bench", async () => {
    const some = [
      bay({ drive: drive() }),
      bay({ action: "open" }),
      bay({ drive: drive({ grade: "replace" }), name: "bay-4", next: { words: "sign" } }),
    ];
    const quiet = [bay({ connection: "empty", action: "open" })];
    await expect(
      variants([
        ["no plan", <BenchStrip key="1" bays={some} />],
        ["quiet", <BenchStrip key="2" bays={quiet} title="field bench" queue={queue({})} />],
        [
          "a quick check",
          <BenchStrip
            key="3"
            bays={quiet}
            queue={queue({ check: "quick", waiting: 1, done: 1_200, words: [{ words: "bay 4 is free" }] })}
          />,
        ],
        ["a whole sweep of a lot", <BenchStrip key="4" bays={some} queue={queue({ check: "whole", lot: 9, waiting: 2, going: 1 })} />],
        ["it waits without a plan", <BenchStrip key="5" bays={some} queue={queue({ waiting: 3, words: [{ words: "bay 4 is free" }] })} />],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-strip.txt");
  });

  it("the watch: its load, its quiet hours, and a plan as it is changed", async () => {
    const busy = Array.from({ length: 168 }, (_, h) => (h === 100 ? 3 : h === 125 ? 1 : h === 126 ? 2 : 0));
    const night = { from: "19:00", until: "07:30" };
    const mail = (name: string, over: Partial<Route["route"]> = {}): Route =>
      ({ route: { name, by: "mail", least: "now", zone: "UTC", quiet: [night], ...over }, id: 1 }) as unknown as Route;
    const told = [
      { route: "Imre", state: "sent", ended: "2026-11-12T02:10:00Z" },
      { route: "Imre", state: "sent", ended: "2026-11-12T10:00:00Z" },
      { route: "Imre", state: "sent", ended: "2026-11-10T02:10:00Z" },
    ];
    const plan: WatchPlan = {
      id: 4,
      at,
      by: "Dov",
      name: { words: "the field bench" },
      words: { words: "read every 6 h" },
      plan: { for: { bench: "field" }, read: "6h", short: "FREQ=WEEKLY;BYDAY=SU;BYHOUR=3;BYMINUTE=0", spot: "SU,WE 04:00", wake_after: 9 },
    };
    const ready = new QueryClient({ defaultOptions: { queries: { enabled: false } } });
    ready.setQueryData(["watch", "draft", plan.plan], {
      words: { words: "read every 6 h; short self-test on Sundays at 03:00" },
      comes_to: { words: "4 drives, 16 readings a day; 3 at once at most" },
      never: ["whole_sweep"],
    });
    const row = (load: ReactNode) => (
      <table>
        <tbody>{load}</tbody>
      </table>
    );
    await expect(
      variants([
        ["load", row(<LoadStrip load={{ from: at, now: 120, limit: 3, busy }} />)],
        ["nothing to do", row(<LoadStrip load={{ from: at, now: 120, limit: 3, busy: busy.map(() => 0) }} />)],
        [
          "quiet hours",
          <QuietHours
            key="q"
            now={new Date(at)}
            alerts={[{ told } as unknown as Alert]}
            routes={[
              mail("Imre"),
              mail("Dov"),
              mail("desk", { quiet: [{ from: "12:00", until: "13:00", days: ["SA", "SU"] }], breaks: "none" }),
              mail("loft", { off: "no such host" }),
            ]}
          />,
        ],
        ["none is quiet", <QuietHours key="n" now={new Date(at)} alerts={[]} routes={[mail("Imre", { quiet: undefined })]} />],
        [
          "a plan",
          <QueryClientProvider key="p" client={ready}>
            <PlanForm was={plan} benches={[]} save={() => {}} end={() => {}} close={() => {}} busy={false} />
          </QueryClientProvider>,
        ],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-watch.txt");
  });

  it("the questions of a drive's page", async () => {
    const verdict = { duty: "carry", grade: "healthy", signed: undefined } as Verdict;
    const ready = new QueryClient({ defaultOptions: { queries: { enabled: false } } });
    ready.setQueryData(["drive", drive().serial, "rework", "mend"], { takes_s: 70, sectors: 16 });
    const answer = { despite() {}, release() {}, rework() {}, handover() {}, correction() {}, duty() {}, outcome() {}, overrule() {} };
    const asks = (asked: DriveQuestion | undefined, of: Drive, v: Verdict | undefined) => (
      <QueryClientProvider client={ready}>
        <DriveDialogs
          asked={asked}
          drive={of}
          verdict={v}
          given={{ wrong: "not as things stand", busy: false }}
          answer={answer}
          today="2026-11-12"
          close={() => {}}
        />
      </QueryClientProvider>
    );
    const taken = drive({ bay: "bay-3" as never, intake: { ...intake, ticket: "2214" } as never });
    const all: (DriveQuestion | undefined)[] = [
      undefined,
      { about: "despite", check: "extended" },
      { about: "release" },
      { about: "rework", kind: "mend" },
      { about: "rework", kind: "overwrite" },
      { about: "handover" },
      { about: "correction" },
      { about: "outcome" },
      { about: "duty" },
      { about: "overrule" },
    ];
    await expect(
      variants(
        all.flatMap((asked): [string, ReactNode][] => [
          [`${asked?.about ?? "nothing"}, of a drive with all`, asks(asked, taken, verdict)],
          [`${asked?.about ?? "nothing"}, of a drive with nothing`, asks(asked, drive(), undefined)],
        ]),
      ),
    ).toMatchFileSnapshot("../testing/said/part-questions.txt");
  });

  it("rules and their drafts", async () => {
    const rule: PolicyRule = {
      ...unknownRule({ id: "pending", when: "now.pending > 5", says: "5 pending", effect: "degrading" }),
      applies: "spinning",
      limit: "5",
      source: "ours",
    };
    const draft = { id: "pending", when: rule.when, says: rule.says, effect: "degrading" };
    const none = () => {};
    await expect(
      variants([
        ["as it is", <Rule key="1" rule={rule} change={none} />],
        ["with a draft that says the same", <Rule key="2" rule={rule} draft={draft} change={none} />],
        ["fires earlier", <Rule key="3" rule={rule} draft={{ ...draft, when: "now.pending > 3" }} change={none} />],
        ["says something else", <Rule key="4" rule={rule} draft={{ ...draft, says: "some pending" }} change={none} />],
        ["graver", <Rule key="5" rule={rule} draft={{ ...draft, effect: "replace" }} change={none} />],
        [
          "a note, for some",
          <Rule
            key="6"
            rule={{ ...unknownRule({ ...draft, effect: "note" }), limit: undefined, unfit: ["archive", "carry"] }}
            change={none}
          />,
        ],
        ["of an effect that is none", <Rule key="7" rule={unknownRule({ ...draft, effect: "burn" })} change={none} />],
        [
          "versions",
          <Versions
            key="8"
            policy={
              {
                versions: [
                  { version: 6, at, by: "", note: "" },
                  { version: 7, at, by: "Maud", note: "milder" },
                ],
              } as never
            }
          />,
        ],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-rules.txt");
    const change = vi.fn();
    render(<Rule rule={rule} change={change} />);
    fireEvent.click(screen.getByText("Change"));
    const field = screen.getByLabelText("Fires when");
    expect((field as HTMLTextAreaElement).value).toBe(rule.when);
    fireEvent.change(field, { target: { value: "now.pending > 4" } });
    expect(change).toHaveBeenCalledWith("now.pending > 4");
    fireEvent.click(screen.getByText("Done"));
    expect(screen.queryByLabelText("Fires when")).toBeNull();
  });

  it("what a replay found", async () => {
    const differs = (would: string, was: string, still = false) => ({ reading: 4, at, would, was, still, would_why: "5 pending" });
    const one = (n: number, over: Partial<ReplayDrive>): ReplayDrive =>
      ({ serial: `KVA077M${500 + n}`, model: "K", differs: [differs("replace", "healthy")], ...over }) as ReplayDrive;
    const later = { at: "2026-11-22T15:12:00Z", failed: true };
    const risk = {
      words: "by 44 outcomes",
      outcomes: 44,
      tenths: [
        { drives: 0, said: 0, failed: 0 },
        { drives: 8, said: 0.15, failed: 2 },
      ],
    };
    const replay = (over: object): Replay =>
      ({
        policy: 6,
        readings: 12_000,
        drives: 1_100,
        failed: 3,
        sound: 9,
        changed: 1,
        shown: [one(0, {})],
        risk,
        was: { hits: 2, false_alarms: 1 },
        would: { hits: 3, false_alarms: 1, lead_median_h: 100 },
        ...over,
      }) as never;
    const fates = [
      one(1, {}),
      one(2, { differs: [differs("degrading", "healthy", true)] as never }),
      one(3, { outcome: later as never }),
      one(4, { outcome: { ...later, failed: false } as never }),
      one(5, { outcome: later as never, differs: [differs("healthy", "replace")] as never }),
      one(6, { outcome: { ...later, failed: false } as never, differs: [differs("healthy", "replace")] as never }),
      one(7, { outcome: { at: "2026-11-02T15:12:00Z", failed: true } as never }),
      one(8, { outcome: later as never, differs: [differs("degrading", "healthy")] as never }),
      one(9, { differs: [] }),
    ];
    await expect(
      variants([
        ["one drive", <Replayed key="1" replay={replay({})} />],
        [
          "none",
          <Replayed
            key="2"
            replay={replay({ changed: 0, shown: [], would: { hits: 2, false_alarms: 4 }, risk: { ...risk, tenths: [] } })}
          />,
        ],
        ["every fate", <Replayed key="3" replay={replay({ changed: 60, shown: fates })} />],
        [
          "more than are shown",
          <Replayed key="4" replay={replay({ changed: 44, shown: Array.from({ length: 44 }, (_, n) => one(n, {})) })} />,
        ],
        ["learnt", <Learnt key="5" risk={risk as never} />],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-replay.txt");
    render(
      <MemoryRouter>
        <Replayed replay={replay({ changed: 44, shown: Array.from({ length: 44 }, (_, n) => one(n, {})) })} />
      </MemoryRouter>,
    );
    expect(screen.getAllByRole("listitem")).toHaveLength(40);
    fireEvent.click(screen.getByText("Show 4 more"));
    expect(screen.getAllByRole("listitem")).toHaveLength(44);
  });

  const ribbon = (): RibbonProps => {
    const cells = emptyCells(512);
    fill(cells, [
      { first: 0, speeds: [180_000, 170_000, 160_000, 0], classes: "0135", unread: [{ cell: 2, sectors: 9 }] },
      { first: 64, speeds: [150_000, 150_000], classes: "01", unread: [] },
      {
        first: 510,
        speeds: [90_000, 90_000, 90_000],
        classes: "99-",
        unread: [
          { cell: 511, sectors: 1 },
          { cell: 512, sectors: 4 },
        ],
      },
    ] as never);
    return {
      cells,
      version: 1,
      share: 0.5,
      bytes: 512e9,
      sector: 512,
      heat: [],
      spinning: true,
      sample: false,
      label: "the surface",
      live: true,
    };
  };

  it("cells are filled within their bounds", () => {
    const { cells } = ribbon();
    expect([...cells.speeds.slice(508)]).toEqual([0, 0, 90, 90]);
    expect([...cells.classes.slice(0, 5)]).toEqual([0, 1, 3, 5, 255]);
    expect([...cells.classes.slice(509)]).toEqual([255, 255, 255]);
    expect(cells.unread[511]).toBe(1);
    expect(cells.unread).toHaveLength(512);
    fill(cells, [{ first: 2, speeds: [1], classes: "0", unread: [] }] as never);
    expect(cells.unread[2], "what is read again is told anew").toBe(0);
    expect(cells.speeds[3], "nothing beyond what came").toBe(0);
  });

  it("the ribbon", async () => {
    vi.spyOn(HTMLCanvasElement.prototype, "getContext").mockReturnValue(new Proxy({}, { get: () => () => {}, set: () => true }) as never);
    vi.stubGlobal("requestAnimationFrame", (f: FrameRequestCallback) => {
      f(0);
      return 1;
    });
    vi.stubGlobal("devicePixelRatio", 2);
    const all = ribbon();
    await expect(
      variants([
        ["as it goes on", <Ribbon key="1" {...all} speed={171e6} celsius={41} />],
        ["to its end", <Ribbon key="2" {...all} live={false} speed={171e6} celsius={41} />],
        ["a sample of flash", <Ribbon key="3" {...all} sample spinning={false} />],
        ["a sample of a platter", <Ribbon key="4" {...all} sample />],
        ["nothing swept", <Ribbon key="5" {...all} cells={emptyCells(512)} />],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-ribbon.txt");

    const { container } = render(<Ribbon {...all} />);
    const canvas = screen.getByRole("img");
    const steps: string[] = [];
    const tell = (what: string) =>
      steps.push(
        `== ${what}\n${container.querySelector("[aria-live]")?.textContent}\n${screen.getAllByText(/a cell is|rows: LBA/)[0]?.textContent}`,
      );
    tell("at first");
    for (const key of [
      "ArrowRight",
      "ArrowRight",
      "ArrowDown",
      "ArrowUp",
      "ArrowLeft",
      "PageDown",
      "PageUp",
      "x",
      "Enter",
      "Enter",
      "ArrowDown",
      "Escape",
      "Escape",
      "Escape",
    ]) {
      fireEvent.keyDown(canvas, { key });
      tell(key);
    }
    for (let n = 0; n < 9; n++) fireEvent.keyDown(canvas, { key: "PageDown" });
    tell("far down");
    fireEvent.doubleClick(canvas);
    tell("a double click");
    fireEvent.blur(canvas);
    tell("it is left");
    vi.spyOn(canvas, "getBoundingClientRect").mockReturnValue({ top: 0, left: 0, width: 1024, height: 400 } as DOMRect);
    for (const [clientX, clientY] of [
      [512, 5],
      [512, 200],
      [0, 200],
      [1023, 399],
      [512, 4000],
    ]) {
      fireEvent(canvas, new MouseEvent("pointermove", { clientX, clientY, bubbles: true }));
      tell(`the pointer at ${clientX}, ${clientY}`);
    }
    fireEvent.pointerLeave(canvas);
    tell("the pointer leaves");
    await expect(`${steps.join("\n")}\n`).toMatchFileSnapshot("../testing/said/part-ribbon-keys.txt");
  });

  it("places and changes", async () => {
    const s = { sectors: 1_000_000_000, logical: 512, physical: 4096 } as SweepStanding;
    const sweep = {
      ranges: [
        { lba: 900_000, sectors: 1, physical: 1, unreadable: true, cause: "medium" },
        { lba: 4_096, sectors: 16, physical: 2, unreadable: true, cause: "medium" },
        { lba: 8_192, sectors: 8, physical: 1, unreadable: false, cause: "damaged on the link" },
      ],
      slow: [{ lba: 5_000, sectors: 8, class: 4, words: { words: "slow at every read" } }],
    } as unknown as Sweep;
    const cells = ribbon().cells;
    const rows = (ended: boolean) => placesOf(sweep, cells, s, ended);
    const change = { lba: 4096, sectors: 8, change: "new", before: "", after: "unreadable" };
    await expect(
      variants([
        ["as it ended", <SweepPlaces key="1" rows={rows(true)} ended />],
        ["so far", <SweepPlaces key="2" rows={rows(false)} ended={false} />],
        ["of nothing so far", <SweepPlaces key="3" rows={placesOf(null, undefined, s, false)} ended={false} />],
        ["of nothing", <SweepPlaces key="4" rows={placesOf({ ranges: [], slow: [] } as never, undefined, s, true)} ended />],
        ["ended, and not fetched yet", <SweepPlaces key="5" rows={placesOf(undefined, cells, s, true)} ended />],
        [
          "very many",
          <SweepPlaces
            key="6"
            rows={Array.from({ length: 202 }, (_, n) => ({ key: `${n}`, where: `${n} GB`, lba: `${n}`, what: "slow", evidence: "" }))}
            ended
          />,
        ],
        ["compared", <Changes key="7" all={[change]} earlier={3} sector={512} bytes={512e9} />],
        ["compared, nothing", <Changes key="8" all={[]} earlier={3} sector={512} bytes={512e9} />],
      ]),
    ).toMatchFileSnapshot("../testing/said/part-places.txt");
  });

  it("bays are set as people type", () => {
    const set = vi.fn();
    const { rerender } = render(
      <BayList
        title="north bench"
        bays={[bay({ drive: drive(), label: "left" }), bay({ name: "bay-4", number: 4 })]}
        set={set}
        arrange={() => {}}
      />,
    );
    const number = screen.getByLabelText("Number of bay 3") as HTMLInputElement;
    const label = screen.getByLabelText("Label of bay 3");
    const type = (field: Element, value: string, key?: string) => {
      fireEvent.change(field, { target: { value } });
      if (key) fireEvent.keyDown(field, { key });
      else fireEvent.blur(field);
    };
    for (const wrong of ["0", "12345", "x", "-3", " 3 ", ""]) type(number, wrong);
    expect(set).not.toHaveBeenCalled();
    type(number, "7", "x");
    expect(set).not.toHaveBeenCalled();
    type(number, " 7 ", "Enter");
    expect(set).toHaveBeenLastCalledWith("bay-3", { number: 7 });
    type(label, " left dock ");
    expect(set).toHaveBeenLastCalledWith("bay-3", { label: "left dock" });
    fireEvent.click(screen.getByLabelText("Show bay 4"));
    expect(set).toHaveBeenLastCalledWith("bay-4", { hidden: true });
    rerender(<BayList title="north bench" bays={[bay({ number: 9 })]} set={set} arrange={() => {}} />);
    expect((screen.getByLabelText("Number of bay 3") as HTMLInputElement).value).toBe("9");
  });
});
