import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, data, ProblemError } from "./client";
import { renew } from "./events";
import type { BaySetting, CheckKind, Duty, Grade, HandoverRequest, IntakeRequest, LotRequest, Medium, ReworkKind } from "./types";

const drive = (serial: string) => ({ path: { drive: serial } });

export const useService = () => useQuery({ queryKey: ["service"], queryFn: () => data(api.GET("/service")) });

/** How a bench stands with its plan; the shop's own has no name. */
export const useQueue = (bench: string) =>
  useQuery({ queryKey: ["bays", "queue", bench], queryFn: () => data(api.GET("/plan", { params: { query: { bench } } })) });

export const useBays = () => useQuery({ queryKey: ["bays"], queryFn: () => data(api.GET("/bays")) });

export const usePolicy = () => useQuery({ queryKey: ["policy", "self"], queryFn: () => data(api.GET("/policy")) });

/** Puts a draft's own examples to its rules. */
export const usePolicyTest = (text: string) =>
  useQuery({
    queryKey: ["policy", "test", text],
    queryFn: () => data(api.POST("/policy/test", { body: { text } })),
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });

/** What a person does with a draft. */
export function usePolicyOrders() {
  const cache = useQueryClient();
  return {
    replay: useMutation({ mutationFn: (text: string) => data(api.POST("/policy/replay", { body: { text } })) }),
    publish: useMutation({
      mutationFn: (body: { text: string; note: string; by: string }) => data(api.PUT("/policy", { body })),
      onSettled: () => renew(cache, []),
    }),
  };
}

/** How many drives are asked for at a time. */
const drivesAtOnce = 200;

/** Drives by serial, more of them as somebody scrolls. */
/** What drives are looked for by. */
export interface Looked {
  q?: string;
  grade?: Grade;
  medium?: Medium;
  lot?: number;
  from_hours?: number;
  to_hours?: number;
}

export const useDrives = (by: Looked) =>
  useInfiniteQuery({
    queryKey: ["drives", by],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      data(api.GET("/drives", { params: { query: { ...by, after: pageParam || undefined, limit: drivesAtOnce } } })),
    getNextPageParam: (last) => (last.length < drivesAtOnce ? undefined : last.at(-1)?.serial),
    placeholderData: (before) => before,
  });

export const useSession = () => useQuery({ queryKey: ["session"], queryFn: () => data(api.GET("/session")) });

export const useLots = () => useQuery({ queryKey: ["lots", "all"], queryFn: () => data(api.GET("/lots")) });

export const useLot = (lot: number) =>
  useQuery({ queryKey: ["lots", lot], queryFn: () => data(api.GET("/lots/{lot}", { params: { path: { lot } } })) });

export const useReadings = (serial: string) =>
  useQuery({
    queryKey: ["drive", serial, "readings"],
    queryFn: () => data(api.GET("/drives/{drive}/readings", { params: drive(serial) })),
  });

export const useSiblings = (serial: string) =>
  useQuery({
    queryKey: ["drive", serial, "siblings"],
    queryFn: () => data(api.GET("/drives/{drive}/siblings", { params: drive(serial) })),
  });

/** What was seen of a drive's file systems last; null when nobody has looked. */
export const useVolumes = (serial: string) =>
  useQuery({
    queryKey: ["drive", serial, "volumes"],
    queryFn: async () => {
      const { data: found, response, error } = await api.GET("/drives/{drive}/volumes", { params: drive(serial) });
      if (response.status === 404) return null;
      if (error) throw new ProblemError(error);
      return found;
    },
  });

/** What happens at the desk: drives come and go. */
export function useDesk(by: string) {
  const cache = useQueryClient();
  const settled = () => renew(cache, []);
  return {
    takeIn: useMutation({
      mutationFn: (intake: Omit<IntakeRequest, "by">) => data(api.POST("/intakes", { body: { ...intake, by } })),
      onSettled: settled,
    }),
    handOver: useMutation({
      mutationFn: ({ intake, ...body }: Omit<HandoverRequest, "by"> & { intake: number }) =>
        data(api.POST("/intakes/{intake}/handover", { params: { path: { intake } }, body: { ...body, by } })),
      onSettled: settled,
    }),
    openLot: useMutation({
      mutationFn: (lot: Omit<LotRequest, "by">) => data(api.POST("/lots", { body: { ...lot, by } })),
      onSettled: settled,
    }),
    endLot: useMutation({
      mutationFn: (lot: number) => data(api.POST("/lots/{lot}/end", { params: { path: { lot } }, body: { by } })),
      onSettled: settled,
    }),
    signTogether: useMutation({
      mutationFn: (drives: string[]) => data(api.POST("/verdicts/sign-off", { body: { by, drives } })),
      onSettled: settled,
    }),
  };
}

/** Signing in and out, in a shop in which people are entered. */
export function useSigning() {
  const cache = useQueryClient();
  const settled = () => renew(cache, []);
  return {
    enter: useMutation({
      mutationFn: (body: { name: string; password: string }) => data(api.POST("/session", { body })),
      onSettled: settled,
    }),
    leave: useMutation({ mutationFn: () => data(api.DELETE("/session")), onSettled: settled }),
  };
}

export const useDrive = (serial: string) =>
  useQuery({ queryKey: ["drive", serial, "self"], queryFn: () => data(api.GET("/drives/{drive}", { params: drive(serial) })) });

export const useVerdict = (serial: string) =>
  useQuery({ queryKey: ["drive", serial, "verdict"], queryFn: () => data(api.GET("/drives/{drive}/verdict", { params: drive(serial) })) });

export const useSignals = (serial: string) =>
  useQuery({ queryKey: ["drive", serial, "signals"], queryFn: () => data(api.GET("/drives/{drive}/signals", { params: drive(serial) })) });

export const useHistory = (serial: string) =>
  useQuery({ queryKey: ["drive", serial, "history"], queryFn: () => data(api.GET("/drives/{drive}/history", { params: drive(serial) })) });

/** A reading beside an earlier one; without numbers, the latest beside the last visit's. */
export const useComparison = (serial: string, before?: number, now?: number) =>
  useQuery({
    queryKey: ["drive", serial, "comparison", before, now],
    queryFn: () => data(api.GET("/drives/{drive}/comparison", { params: { ...drive(serial), query: { before, now } } })),
  });

export const useReading = (serial: string, reading: string) =>
  useQuery({
    queryKey: ["drive", serial, "reading", reading],
    queryFn: () =>
      data(api.GET("/drives/{drive}/readings/{reading}", { params: { path: { drive: serial, reading }, query: { raw: true } } })),
  });

export const useRuns = (serial: string) =>
  useQuery({
    queryKey: ["drive", serial, "runs"],
    queryFn: () => data(api.GET("/runs", { params: { query: { drive: serial, open: true } } })),
  });

const numbered = (run: number) => ({ path: { run } });

export const useRun = (run: number) =>
  useQuery({ queryKey: ["run", run, "self"], queryFn: () => data(api.GET("/runs/{run}", { params: numbered(run) })) });

/** What a rework wrote and changed. */
export const useRework = (run: number, wanted: boolean) =>
  useQuery({
    queryKey: ["run", run, "rework"],
    enabled: wanted,
    queryFn: () => data(api.GET("/runs/{run}/rework", { params: numbered(run) })),
  });

/** The sweep of a run laid over that of an earlier one. */
export const useDifferences = (run: number, earlier: number | undefined) =>
  useQuery({
    queryKey: ["run", run, "differences", earlier],
    enabled: earlier !== undefined,
    queryFn: () => data(api.GET("/runs/{run}/differences", { params: { ...numbered(run), query: { earlier: earlier ?? 1 } } })),
  });

/** The newest sweep of a run; null when it sweeps nothing. */
export const useSweep = (run: number | undefined) =>
  useQuery({
    queryKey: ["run", run, "sweep"],
    enabled: run !== undefined,
    queryFn: async () => {
      const { data: found, response, error } = await api.GET("/runs/{run}/sweep", { params: numbered(run ?? 1) });
      if (response.status === 404) return null;
      if (error) throw new ProblemError(error);
      return found;
    },
  });

export const useSweeps = (serial: string) =>
  useQuery({ queryKey: ["drive", serial, "sweeps"], queryFn: () => data(api.GET("/drives/{drive}/sweeps", { params: drive(serial) })) });

/** What a person orders. Each brings the queries it touches up to date when it is done; events do the rest. */
export function useOrders(by: string) {
  const cache = useQueryClient();
  const settled = () => renew(cache, []);
  return {
    attempt: useMutation({
      mutationFn: (bay: string) => data(api.POST("/bays/{bay}/attempt", { params: { path: { bay }, query: { by } } })),
      onSettled: settled,
    }),
    setBay: useMutation({
      mutationFn: ({ bay, ...setting }: Omit<BaySetting, "by"> & { bay: string }) =>
        data(api.PATCH("/bays/{bay}", { params: { path: { bay } }, body: { ...setting, by } })),
      onSettled: settled,
    }),
    arrange: useMutation({
      mutationFn: (bays: string[]) => data(api.PUT("/bay-order", { body: { bays, by } })),
      onSettled: settled,
    }),
    copied: useMutation({
      mutationFn: (bay: string) => data(api.POST("/bays/{bay}/copy", { params: { path: { bay } }, body: { by } })),
      onSettled: settled,
    }),
    check: useMutation({
      mutationFn: ({ serial, kind, despite }: { serial: string; kind: CheckKind; despite?: string }) =>
        data(api.POST("/drives/{drive}/checks", { params: drive(serial), body: { kind, by, despite } })),
      onSettled: settled,
    }),
    duty: useMutation({
      mutationFn: ({ serial, duty }: { serial: string; duty: Duty }) =>
        data(api.PATCH("/drives/{drive}", { params: drive(serial), body: { duty, by } })),
      onSettled: settled,
    }),
    release: useMutation({
      mutationFn: ({ serial, scope, owner }: { serial: string; scope: ReworkKind; owner: string }) =>
        data(api.PUT("/drives/{drive}/release", { params: drive(serial), body: { scope, owner, by } })),
      onSettled: settled,
    }),
    rework: useMutation({
      mutationFn: ({ serial, kind, ending }: { serial: string; kind: ReworkKind; ending: string }) =>
        data(api.POST("/drives/{drive}/reworks", { params: drive(serial), body: { kind, ending, by } })),
      onSettled: settled,
    }),
    read: useMutation({
      mutationFn: (serial: string) => data(api.POST("/drives/{drive}/readings", { params: drive(serial), body: { by } })),
      onSettled: settled,
    }),
    volumes: useMutation({
      mutationFn: (serial: string) => data(api.POST("/drives/{drive}/volumes", { params: drive(serial), body: { by } })),
      onSettled: settled,
    }),
    stop: useMutation({
      mutationFn: (run: number) => data(api.POST("/runs/{run}/stop", { params: { path: { run } }, body: { by } })),
      onSettled: settled,
    }),
    pause: useMutation({
      mutationFn: (run: number) => data(api.POST("/runs/{run}/pause", { params: numbered(run), body: { by } })),
      onSettled: settled,
    }),
    resume: useMutation({
      mutationFn: (run: number) => data(api.POST("/runs/{run}/resume", { params: numbered(run), body: { by } })),
      onSettled: settled,
    }),
    sign: useMutation({
      mutationFn: ({ serial, verdict, grade, reason }: { serial: string; verdict: number; grade?: Grade; reason?: string }) =>
        data(api.POST("/drives/{drive}/verdict/sign-off", { params: drive(serial), body: { by, verdict, grade, reason } })),
      onSettled: settled,
    }),
  };
}

export type Orders = ReturnType<typeof useOrders>;
