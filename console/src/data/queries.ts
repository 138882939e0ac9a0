import { infiniteQueryOptions, queryOptions, useInfiniteQuery, useQueries, useQuery } from "@tanstack/react-query";
import { api, data, page } from "./client";
import type { Drive, DrivePage, Grade, Medium, ReworkKind, Run, WatchSetting } from "./types";

/** What the service has, one entry a resource: under which key it is kept, and how it is asked for.
 * changes.ts says what makes each stale. */

const drive = (serial: string) => ({ path: { drive: serial } });
const numbered = (run: number) => ({ path: { run } });

export const service = queryOptions({ queryKey: ["service"], queryFn: () => data(api.GET("/service")) });

export const session = queryOptions({ queryKey: ["session"], queryFn: () => data(api.GET("/session")) });

export const bays = queryOptions({ queryKey: ["bays"], queryFn: () => data(api.GET("/bays")) });

/** How a bench stands with its plan; the shop's own has no name. */
const queue = (bench: string) =>
  queryOptions({ queryKey: ["queue", bench], queryFn: () => data(api.GET("/plan", { params: { query: { bench } } })) });

const policy = queryOptions({ queryKey: ["policy", "self"], queryFn: () => data(api.GET("/policy")) });

/** Puts a draft's own examples to its rules. */
const policyTest = (text: string) =>
  queryOptions({
    queryKey: ["policy", "test", text],
    queryFn: () => data(api.POST("/policy/test", { body: { text } })),
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });

/** What drives are looked for by. */
export interface Looked {
  q?: string;
  grade?: Grade;
  medium?: Medium;
  lot?: number;
  from_hours?: number;
  to_hours?: number;
}

/** How many drives are asked for at a time. */
const drivesAtOnce = 200;

/** Drives, the most urgent first, more of them as somebody scrolls. */
const drives = (by: Looked) =>
  infiniteQueryOptions({
    queryKey: ["drives", by],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      page(api.GET("/drives", { params: { query: { ...by, sort: "urgency", after: pageParam || undefined, limit: drivesAtOnce } } })),
    getNextPageParam: (last) => last.next?.get("after") ?? undefined,
    placeholderData: (before) => before,
  });

const lots = queryOptions({ queryKey: ["lots", "all"], queryFn: () => data(api.GET("/lots")) });

const lot = (lot: number) =>
  queryOptions({ queryKey: ["lots", lot], queryFn: () => data(api.GET("/lots/{lot}", { params: { path: { lot } } })) });

/** What a person should know, what moved last first; settled alerts, too, as many as a page shows. */
export const alerts = queryOptions({
  queryKey: ["alerts", "list"],
  queryFn: () => data(api.GET("/alerts", { params: { query: { limit: 300 } } })),
});

const accepted = queryOptions({ queryKey: ["accepted"], queryFn: () => data(api.GET("/accepted")) });

const alertRoutes = queryOptions({ queryKey: ["routes"], queryFn: () => data(api.GET("/routes")), retry: false });

const watched = queryOptions({
  queryKey: ["watch", "drives"],
  queryFn: () => data(api.GET("/watch/drives")),
  refetchInterval: 60_000, // what is due next moves with the time
});

const watchLoad = queryOptions({ queryKey: ["watch", "load"], queryFn: () => data(api.GET("/watch/load")) });

const watchPlans = queryOptions({ queryKey: ["watch", "plans"], queryFn: () => data(api.GET("/watch/plans")) });

/** What a drive's page has of it, each asked alone. */
const alone = {
  drive: (serial: string) => data(api.GET("/drives/{drive}", { params: drive(serial) })),
  verdict: (serial: string) => data(api.GET("/drives/{drive}/verdict", { params: drive(serial) })),
  signals: (serial: string) => data(api.GET("/drives/{drive}/signals", { params: drive(serial) })),
  history: (serial: string) => data(api.GET("/drives/{drive}/history", { params: drive(serial) })),
  reading: (serial: string) =>
    data(api.GET("/drives/{drive}/readings/{reading}", { params: { path: { drive: serial, reading: "latest" }, query: { raw: false } } })),
};
type Part = keyof typeof alone;

const asked = new Map<string, { parts: Set<Part>; answer: Promise<DrivePage | undefined> }>();

/** A part of a drive's page. Parts that are asked in the same moment are one question. */
function part<P extends Part>(serial: string, what: P): Promise<Awaited<ReturnType<(typeof alone)[P]>>> {
  let together = asked.get(serial);
  if (!together) {
    const parts = new Set<Part>();
    const answer = new Promise((now) => setTimeout(now)).then(() => {
      asked.delete(serial);
      return parts.size > 1 ? data(api.GET("/drives/{drive}/page", { params: drive(serial) })) : undefined;
    });
    together = { parts, answer };
    asked.set(serial, together);
  }
  together.parts.add(what);
  return together.answer.then((whole) => (whole?.[what] ?? alone[what](serial)) as Awaited<ReturnType<(typeof alone)[P]>>);
}

/** What is kept of one drive. */
const ofDrive = {
  self: (serial: string) => queryOptions({ queryKey: ["drive", serial, "self"], queryFn: () => part(serial, "drive") }),
  verdict: (serial: string) => queryOptions({ queryKey: ["drive", serial, "verdict"], queryFn: () => part(serial, "verdict") }),
  signals: (serial: string) => queryOptions({ queryKey: ["drive", serial, "signals"], queryFn: () => part(serial, "signals") }),
  history: (serial: string) => queryOptions({ queryKey: ["drive", serial, "history"], queryFn: () => part(serial, "history") }),
  siblings: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "siblings"],
      queryFn: () => data(api.GET("/drives/{drive}/siblings", { params: drive(serial) })),
    }),
  readings: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "readings"],
      queryFn: () => data(api.GET("/drives/{drive}/readings", { params: drive(serial) })),
    }),
  sweeps: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "sweeps"],
      queryFn: () => data(api.GET("/drives/{drive}/sweeps", { params: drive(serial) })),
    }),
  runs: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "runs"],
      queryFn: () => data(api.GET("/runs", { params: { query: { drive: serial, open: true } } })),
    }),
  /** A reading beside an earlier one; without numbers, the latest beside the last visit's. */
  comparison: (serial: string, before?: number, now?: number) =>
    queryOptions({
      queryKey: ["drive", serial, "comparison", before, now],
      queryFn: () => data(api.GET("/drives/{drive}/comparison", { params: { ...drive(serial), query: { before, now } } })),
    }),
  /** A reading, decoded; with its bytes, which are many, where somebody looks at them. */
  reading: (serial: string, reading: string, raw: boolean) =>
    queryOptions({
      queryKey: ["drive", serial, "reading", reading, raw],
      queryFn: () =>
        reading === "latest" && !raw
          ? part(serial, "reading")
          : data(api.GET("/drives/{drive}/readings/{reading}", { params: { path: { drive: serial, reading }, query: { raw } } })),
    }),
  watch: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "watch"],
      queryFn: () => data(api.GET("/drives/{drive}/watch", { params: drive(serial) })),
      retry: false,
    }),
  alerts: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "alerts"],
      queryFn: () => data(api.GET("/alerts", { params: { query: { drive: serial, limit: 20 } } })),
    }),
  accepted: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "accepted"],
      queryFn: () => data(api.GET("/accepted", { params: { query: { drive: serial } } })),
    }),
  volumes: (serial: string) =>
    queryOptions({
      queryKey: ["drive", serial, "volumes"],
      queryFn: () => data(api.GET("/drives/{drive}/volumes", { params: drive(serial) })),
    }),
};

/** What is kept of one run. */
const ofRun = {
  self: (run: number) =>
    queryOptions({ queryKey: ["run", run, "self"], queryFn: () => data(api.GET("/runs/{run}", { params: numbered(run) })) }),
  rework: (run: number) =>
    queryOptions({ queryKey: ["run", run, "rework"], queryFn: () => data(api.GET("/runs/{run}/rework", { params: numbered(run) })) }),
  sweep: (run: number) =>
    queryOptions({ queryKey: ["run", run, "sweep"], queryFn: () => data(api.GET("/runs/{run}/sweep", { params: numbered(run) })) }),
  differences: (run: number, earlier: number) =>
    queryOptions({
      queryKey: ["run", run, "differences", earlier],
      queryFn: () => data(api.GET("/runs/{run}/differences", { params: { ...numbered(run), query: { earlier } } })),
    }),
};

export const useService = () => useQuery(service);
export const useSession = () => useQuery(session);
export const useBays = () => useQuery(bays);
export const useQueue = (bench: string) => useQuery(queue(bench));
export const usePolicy = () => useQuery(policy);
export const usePolicyTest = (text: string) => useQuery(policyTest(text));
export const useDrives = (by: Looked) => useInfiniteQuery(drives(by));
export const useLots = () => useQuery(lots);
export const useLot = (number: number) => useQuery(lot(number));

export const useAlerts = (admitted = true) => useQuery({ ...alerts, enabled: admitted });
export const useAccepted = () => useQuery(accepted);
export const useRoutes = () => useQuery(alertRoutes);
export const useWatched = () => useQuery(watched);
export const useWatchPlans = () => useQuery(watchPlans);
export const useWatchLoad = () => useQuery(watchLoad);

/** What a plan says and would come to, before it is in force. */
export const useWatchDraft = (plan: WatchSetting, asked: boolean) =>
  useQuery({
    queryKey: ["watch", "draft", plan],
    queryFn: () => data(api.POST("/watch/plans/draft", { body: plan })),
    enabled: asked,
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });
export const useWatch = (serial: string, wanted = true) => useQuery({ ...ofDrive.watch(serial), enabled: wanted });
export const useAlertsOf = (serial: string) => useQuery(ofDrive.alerts(serial));
export const useAcceptedOf = (serial: string) => useQuery(ofDrive.accepted(serial));

/** What a drive's page begins with, asked before it is known which parts of it are shown. */
export const useDrivePage = (serial: string) =>
  useQueries({
    queries: [
      ofDrive.self(serial),
      ofDrive.verdict(serial),
      ofDrive.signals(serial),
      ofDrive.history(serial),
      ofDrive.reading(serial, "latest", false),
    ],
  })[0];

export const useDrive = (serial: string) => useQuery(ofDrive.self(serial));
export const useVerdict = (serial: string) => useQuery(ofDrive.verdict(serial));
export const useSignals = (serial: string) => useQuery(ofDrive.signals(serial));
export const useHistory = (serial: string) => useQuery(ofDrive.history(serial));
export const useSiblings = (serial: string) => useQuery(ofDrive.siblings(serial));
export const useReadings = (serial: string) => useQuery(ofDrive.readings(serial));
export const useSweeps = (serial: string) => useQuery(ofDrive.sweeps(serial));
export const useRuns = (serial: string) => useQuery(ofDrive.runs(serial));
export const useComparison = (serial: string, before?: number, now?: number) => useQuery(ofDrive.comparison(serial, before, now));
export const useReading = (serial: string, reading: string) => useQuery(ofDrive.reading(serial, reading, false));

/** The bytes of a reading, once somebody looks at them. */
export const useBytes = (serial: string, reading: string, looked: boolean) =>
  useQuery({ ...ofDrive.reading(serial, reading, true), enabled: looked });

/** What was seen of a drive's file systems last, if anybody has looked. */
export const useVolumes = (d: Drive) => useQuery({ ...ofDrive.volumes(d.serial), enabled: d.volumes_at !== undefined });

/** What a run does: which of its steps go over the surface, and which write. */
const sweeps = (r: Run) => r.steps.some((s) => s.sweep !== undefined);
const writes = (r: Run) => ["mend", "renew", "overwrite"].includes(r.kind);

export const useRun = (run: number) => useQuery(ofRun.self(run));

/** Whether a rework of a drive could begin, the serial aside: asked anew each time. */
export const useReworkReady = (serial: string, kind: ReworkKind) =>
  useQuery({
    queryKey: ["drive", serial, "rework", kind],
    queryFn: () => data(api.GET("/drives/{drive}/reworks", { params: { path: { drive: serial }, query: { kind } } })),
    gcTime: 0,
    retry: false,
  });

/** What a rework wrote and changed. */
export const useRework = (run: Run) => useQuery({ ...ofRun.rework(run.id), enabled: writes(run) });

/** The newest sweep of a run. */
export const useSweep = (run: Run) => useQuery({ ...ofRun.sweep(run.id), enabled: sweeps(run) });

/** The sweep of an earlier run, to be laid under this one's. */
export const useEarlierSweep = (run: number | undefined) => useQuery({ ...ofRun.sweep(run ?? 0), enabled: run !== undefined });

/** The sweep of a run laid over that of an earlier one. */
export const useDifferences = (run: number, earlier: number | undefined) =>
  useQuery({ ...ofRun.differences(run, earlier ?? 0), enabled: earlier !== undefined });
