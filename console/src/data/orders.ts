import { useMutation, useQueryClient } from "@tanstack/react-query";
import { happened, renew } from "./changes";
import { api, data } from "./client";
import type {
  AcceptRequest,
  BaySetting,
  CheckKind,
  Duty,
  Fact,
  Grade,
  HandoverRequest,
  IntakeCorrection,
  IntakeRequest,
  LotRequest,
  OutcomeRequest,
  ReworkKind,
  RouteSetting,
  WatchSetting,
} from "./types";

const drive = (serial: string) => ({ path: { drive: serial } });
const numbered = (run: number) => ({ path: { run } });

/** One order: what it does, and what has changed when it is done. Events tell the rest of what comes of it. */
function useOrder<In, Out>(carryOut: (given: In) => Promise<Out>, changes: (given: In) => Pick<Fact, "kind" | "serial" | "run">) {
  const cache = useQueryClient();
  return useMutation({ mutationFn: carryOut, onSettled: (_done, _wrong, given) => happened(cache, changes(given)) });
}

const bayChanged = () => ({ kind: "bay.changed" as const });
const runChanged = (run: number) => ({ kind: "run.changed" as const, run });

/** What a person orders of bays, drives and runs. */
export function useOrders(by: string) {
  return {
    attempt: useOrder((bay: string) => data(api.POST("/bays/{bay}/attempt", { params: { path: { bay }, query: { by } } })), bayChanged),
    setBay: useOrder(
      ({ bay, ...setting }: Omit<BaySetting, "by"> & { bay: string }) =>
        data(api.PATCH("/bays/{bay}", { params: { path: { bay } }, body: { ...setting, by } })),
      bayChanged,
    ),
    arrange: useOrder((order: string[]) => data(api.PUT("/bay-order", { body: { bays: order, by } })), bayChanged),
    copied: useOrder(
      (bay: string) => data(api.POST("/bays/{bay}/copy", { params: { path: { bay } }, body: { by } })),
      () => ({ kind: "intake.changed" }),
    ),
    check: useOrder(
      ({ serial, kind, despite }: { serial: string; kind: CheckKind; despite?: string }) =>
        data(api.POST("/drives/{drive}/checks", { params: drive(serial), body: { kind, by, despite } })),
      ({ serial }) => ({ kind: "run.changed", serial }),
    ),
    duty: useOrder(
      ({ serial, duty }: { serial: string; duty: Duty }) =>
        data(api.PATCH("/drives/{drive}", { params: drive(serial), body: { duty, by } })),
      ({ serial }) => ({ kind: "verdict.changed", serial }),
    ),
    release: useOrder(
      ({ serial, scope, owner }: { serial: string; scope: ReworkKind; owner: string }) =>
        data(api.PUT("/drives/{drive}/release", { params: drive(serial), body: { scope, owner, by } })),
      ({ serial }) => ({ kind: "intake.changed", serial }),
    ),
    rework: useOrder(
      ({ serial, kind, ending }: { serial: string; kind: ReworkKind; ending: string }) =>
        data(api.POST("/drives/{drive}/reworks", { params: drive(serial), body: { kind, ending, by } })),
      ({ serial }) => ({ kind: "run.changed", serial }),
    ),
    read: useOrder(
      (serial: string) => data(api.POST("/drives/{drive}/readings", { params: drive(serial), body: { by } })),
      (serial) => ({ kind: "reading.taken", serial }),
    ),
    volumes: useOrder(
      (serial: string) => data(api.POST("/drives/{drive}/volumes", { params: drive(serial), body: { by } })),
      (serial) => ({ kind: "volumes.seen", serial }),
    ),
    stop: useOrder((run: number) => data(api.POST("/runs/{run}/stop", { params: numbered(run), body: { by } })), runChanged),
    pause: useOrder((run: number) => data(api.POST("/runs/{run}/pause", { params: numbered(run), body: { by } })), runChanged),
    resume: useOrder((run: number) => data(api.POST("/runs/{run}/resume", { params: numbered(run), body: { by } })), runChanged),
    outcome: useOrder(
      ({ serial, ...body }: Omit<OutcomeRequest, "by"> & { serial: string }) =>
        data(api.PUT("/drives/{drive}/outcome", { params: drive(serial), body: { ...body, by } })),
      ({ serial }) => ({ kind: "outcome.noted", serial }),
    ),
    sign: useOrder(
      ({ serial, verdict, grade, reason }: { serial: string; verdict: number; grade?: Grade; reason?: string }) =>
        data(api.POST("/drives/{drive}/verdict/sign-off", { params: drive(serial), body: { by, verdict, grade, reason } })),
      ({ serial }) => ({ kind: "verdict.signed", serial }),
    ),
  };
}

export type Orders = ReturnType<typeof useOrders>;

/** What happens at the desk: drives come and go. */
export function useDesk(by: string) {
  return {
    takeIn: useOrder(
      (intake: Omit<IntakeRequest, "by">) => data(api.POST("/intakes", { body: { ...intake, by } })),
      () => ({ kind: "intake.changed" }),
    ),
    putRight: useOrder(
      ({ intake, serial: _, ...body }: Omit<IntakeCorrection, "by"> & { intake: number; serial: string }) =>
        data(api.PATCH("/intakes/{intake}", { params: { path: { intake } }, body: { ...body, by } })),
      ({ serial }) => ({ kind: "intake.changed", serial }),
    ),
    handOver: useOrder(
      ({ intake, serial: _, ...body }: Omit<HandoverRequest, "by"> & { intake: number; serial: string }) =>
        data(api.POST("/intakes/{intake}/handover", { params: { path: { intake } }, body: { ...body, by } })),
      ({ serial }) => ({ kind: "intake.changed", serial }),
    ),
    openLot: useOrder(
      (lot: Omit<LotRequest, "by">) => data(api.POST("/lots", { body: { ...lot, by } })),
      () => ({ kind: "lot.changed" }),
    ),
    endLot: useOrder(
      (lot: number) => data(api.POST("/lots/{lot}/end", { params: { path: { lot } }, body: { by } })),
      () => ({ kind: "lot.changed" }),
    ),
    signTogether: useOrder(
      (drives: string[]) => data(api.POST("/verdicts/sign-off", { body: { by, drives } })),
      () => ({ kind: "verdict.signed" }),
    ),
  };
}

const told = () => ({ kind: "alert.changed" as const });
const routed = () => ({ kind: "routes.changed" as const });

/** What a person does about alerts, known flaws and those who are told. */
export function useAlertOrders(by: string) {
  return {
    take: useOrder(
      ({ alert }: { alert: number; serial?: string }) =>
        data(api.POST("/alerts/{alert}/take", { params: { path: { alert }, query: { by } } })),
      ({ serial }) => ({ ...told(), serial }),
    ),
    settle: useOrder(
      ({ alert, note }: { alert: number; serial?: string; note?: string }) =>
        data(api.POST("/alerts/{alert}/settle", { params: { path: { alert } }, body: { by, note } })),
      ({ serial }) => ({ ...told(), serial }),
    ),
    accept: useOrder(
      ({ serial, signal, ...body }: Omit<AcceptRequest, "by"> & { serial: string; signal: string }) =>
        data(api.PUT("/drives/{drive}/accepted/{signal}", { params: { path: { drive: serial, signal } }, body: { ...body, by } })),
      ({ serial }) => ({ kind: "level.accepted", serial }),
    ),
    speakAgain: useOrder(
      ({ serial, signal }: { serial: string; signal: string }) =>
        data(api.DELETE("/drives/{drive}/accepted/{signal}", { params: { path: { drive: serial, signal }, query: { by } } })),
      ({ serial }) => ({ kind: "level.accepted", serial }),
    ),
    setRoute: useOrder(
      ({ route, secret }: { route: RouteSetting; secret?: string }) => data(api.PUT("/routes", { body: { route, secret, by } })),
      routed,
    ),
    endRoute: useOrder((route: string) => data(api.DELETE("/routes/{route}", { params: { path: { route }, query: { by } } })), routed),
    tryRoute: useOrder((route: string) => data(api.POST("/routes/{route}/try", { params: { path: { route }, query: { by } } })), routed),
    setPlan: useOrder(
      (plan: WatchSetting) => data(api.PUT("/watch/plans", { body: { plan, by } })),
      () => ({ kind: "watch.changed" }),
    ),
    endPlan: useOrder(
      (plan: number) => data(api.DELETE("/watch/plans/{plan}", { params: { path: { plan }, query: { by } } })),
      () => ({ kind: "watch.changed" }),
    ),
    await: useOrder(
      ({ run, on }: { run: number; on: boolean }) => data(api.PUT("/runs/{run}/awaited", { params: { path: { run } }, body: { on, by } })),
      ({ run }) => runChanged(run),
    ),
  };
}

export type AlertOrders = ReturnType<typeof useAlertOrders>;

/** What a person does with a draft of the policy. */
export function usePolicyOrders() {
  return {
    replay: useMutation({ mutationFn: (text: string) => data(api.POST("/policy/replay", { body: { text } })) }),
    publish: useOrder(
      (body: { text: string; note: string; by: string }) => data(api.PUT("/policy", { body })),
      () => ({ kind: "policy.published" }),
    ),
  };
}

/** Signing in and out, in a shop in which people are entered: whoever it is now may see other things. */
export function useSigning() {
  const cache = useQueryClient();
  const settled = () => renew(cache, []);
  return {
    enter: useMutation({
      mutationFn: (body: { name: string; password: string; code?: string }) => data(api.POST("/session", { body })),
      onSettled: settled,
    }),
    leave: useMutation({ mutationFn: () => data(api.DELETE("/session")), onSettled: settled }),
  };
}
