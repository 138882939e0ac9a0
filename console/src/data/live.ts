import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { type Cells, emptyCells, fill } from "../parts/cells";
import { apiPath } from "./base";
import { renew } from "./changes";
import type { Live, Run, Sweep } from "./types";

export interface LiveRun {
  run?: Run;
  cells?: Cells;
  /** Rises whenever cells changed in place. */
  version: number;
  heat: { share: number; celsius: number }[];
}

/** How many cells a ribbon has, whatever the capacity; a drive of fewer physical sectors has one for each. */
export const cellsOf = (s: { sectors: number; logical: number; physical: number }) =>
  Math.min(8 * 2048, Math.ceil((s.sectors * s.logical) / s.physical));

/** Follows a run while it goes on: its standing, and its ribbon cell by cell. `kept` is the sweep as it was asked for first. */
export function useLive(id: number, open: boolean, kept: Sweep | null | undefined): LiveRun {
  const cache = useQueryClient();
  const [run, setRun] = useState<Run>();
  const [version, rise] = useState(0);
  const cells = useRef<Cells>(undefined);
  const heat = useRef<{ share: number; celsius: number }[]>([]);

  useEffect(() => {
    if (!kept) return;
    cells.current = emptyCells(kept.cells);
    fill(cells.current, kept.segments);
    heat.current = kept.heat;
    rise((v) => v + 1);
  }, [kept]);

  useEffect(() => {
    if (!open) return;
    const source = new EventSource(apiPath(`/runs/${id}/live`));
    const heard = (snapshot: boolean) => (message: MessageEvent<string>) => {
      const live = JSON.parse(message.data) as Live;
      setRun(live.run);
      const standing = live.run.steps.findLast((s) => s.sweep)?.sweep;
      if (standing) {
        const count = cellsOf(standing);
        if (!cells.current || cells.current.count !== count || (snapshot && live.segments.length > 0)) cells.current = emptyCells(count);
        fill(cells.current, live.segments);
        const last = heat.current.at(-1);
        if (standing.celsius !== undefined && (!last || standing.share - last.share > 0.002))
          heat.current = [...heat.current, { share: standing.share, celsius: standing.celsius }];
        rise((v) => v + 1);
      }
      if (live.run.state === "done") {
        source.close();
        renew(cache, ["run", id]);
      }
    };
    source.addEventListener("snapshot", heard(true));
    source.addEventListener("change", heard(false));
    return () => source.close();
  }, [id, open, cache]);

  return { run, cells: cells.current, version, heat: heat.current };
}
