import type { QueryClient } from "@tanstack/react-query";
import type { Fact } from "./types";

type Key = readonly unknown[];

/** What is kept of a drive, by what may change in it. */
const ofDrive = (serial: string | undefined, ...what: string[]): Key[] => (serial ? what.map((w) => ["drive", serial, w]) : []);

/** What a list, a bay or a lot tells of a drive. */
const lists: Key[] = [["bays"], ["drives"], ["lots"]];

const judged = ["self", "verdict", "signals", "history", "siblings"];
const read = [...judged, "readings", "reading", "comparison", "watch"];

/** What each kind of fact makes stale. What stands here is asked for again, and nothing else. */
const stale: Record<Fact["kind"], (f: Fact) => Key[]> = {
  "bay.changed": (f) => [["bays"], ["queue"], ["service"], ...ofDrive(f.serial, "self")],
  "reading.taken": (f) => [...lists, ...ofDrive(f.serial, ...read)],
  "verdict.changed": (f) => [...lists, ...ofDrive(f.serial, ...judged)],
  "verdict.signed": (f) => [...lists, ...ofDrive(f.serial, "self", "verdict", "history")],
  "run.changed": (f) => [["bays"], ["queue"], ["run", f.run], ...ofDrive(f.serial, "runs", "sweeps", "history", "signals")],
  "run.progress": () => [],
  "intake.changed": (f) => [...lists, ...ofDrive(f.serial, "self", "history", "signals", "comparison")],
  "lot.changed": () => [["lots"], ["queue"], ["bays"]],
  "volumes.seen": (f) => ofDrive(f.serial, "self", "volumes"),
  "plan.changed": () => [["queue"]],
  "watch.changed": (f) => [["watch"], ...ofDrive(f.serial, "watch")],
  "alert.changed": (f) => [["alerts"], ["drives"], ...ofDrive(f.serial, "alerts")],
  "alert.told": () => [],
  "routes.changed": () => [["routes"]],
  "level.accepted": (f) => [["accepted"], ["drives"], ...ofDrive(f.serial, "accepted", "verdict")],
  "policy.published": () => [["policy"], ...lists, ["drive"]],
  "bench.changed": () => [["service"], ["bays"], ["queue"]],
  "outcome.noted": (f) => [["policy"], ...ofDrive(f.serial, "history")],
};

/** Has everything under a key asked for again. A first answer that is still on its way may be older than what happened, and the
 *  cache would settle for it: that one is asked for again once it has come. */
export function renew(cache: QueryClient, key: Key) {
  const early = cache.getQueryCache().findAll({ queryKey: key, fetchStatus: "fetching", predicate: (q) => q.state.data === undefined });
  cache.invalidateQueries({ queryKey: key });
  for (const q of early)
    q.promise?.then(
      () => cache.invalidateQueries({ queryKey: q.queryKey, exact: true }),
      () => undefined, // it is shown where it was asked for
    );
}

/** Has what a fact makes stale asked for again. One of a kind that this console does not know makes everything so. */
export function happened(cache: QueryClient, fact: Pick<Fact, "kind" | "serial" | "run">) {
  const keys = stale[fact.kind]?.(fact as Fact) ?? [[]];
  for (const key of keys) renew(cache, key);
}
