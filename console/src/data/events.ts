import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { apiPath, base } from "./base";
import { happened, renew } from "./changes";
import { notice, sound } from "./sound";
import type { Bay, Fact, Run } from "./types";

export interface Line {
  /** When the connection was lost; absent while it stands. */
  lost?: Date;
  /** The last thing that happened, for a live region. */
  said: string;
}

/** A run with newer progress; the standing and the rest come with the next fact. */
function ahead(run: Run, fact: Fact): Run {
  if (run.id !== fact.run || fact.percent === undefined || fact.percent <= run.percent) return run;
  const left = run.percent < 100 ? Math.round((run.left_s * (100 - fact.percent)) / (100 - run.percent)) : 0;
  return { ...run, percent: fact.percent, left_s: left };
}

/** Brings what is cached up to date with a fact: progress is patched in, what else it touches is asked for again. */
export function apply(cache: QueryClient, fact: Fact, name = "") {
  if (fact.kind === "alert.told") {
    if (fact.people && !fact.people.includes(name)) return; // it is somebody else's
    sound.play(fact.severity ?? "now", fact.alert, fact.repeat);
    notice(`Hylostat: ${fact.severity === "wake" ? "now" : "alert"}`, fact.text?.words ?? "", () => location.assign(`${base}/alerts`));
    return;
  }
  if (fact.kind === "run.progress") {
    cache.setQueryData<Bay[]>(["bays"], (bays) =>
      bays?.map((b) => (b.run?.id === fact.run ? { ...b, run: ahead(b.run as Run, fact) } : b)),
    );
    if (fact.serial) cache.setQueryData<Run[]>(["drive", fact.serial, "runs"], (runs) => runs?.map((r) => ahead(r, fact)));
    return;
  }
  happened(cache, fact);
}

/** Listens to the service, once it would answer: nobody's line is refused. The browser reconnects by itself and asks for what it missed. */
export function useEvents(admitted: boolean, name = ""): Line {
  const cache = useQueryClient();
  const [line, setLine] = useState<Line>({ said: "" });
  const who = useRef(name);
  who.current = name;
  useEffect(() => {
    if (!admitted) return;
    const source = new EventSource(apiPath("/events"));
    const heard = (message: MessageEvent<string>) => {
      const fact = JSON.parse(message.data) as Fact;
      apply(cache, fact, who.current);
      if (fact.text) setLine({ said: fact.text.words });
    };
    source.addEventListener("fact", heard);
    source.addEventListener("progress", heard);
    source.addEventListener("open", () => {
      renew(cache, []); // what was asked for before may have missed something
      setLine((l) => (l.lost ? { said: "Connected again." } : l));
    });
    source.addEventListener("error", () => {
      setLine((l) => (l.lost ? l : { said: l.said, lost: new Date() }));
    });
    return () => source.close();
  }, [cache, admitted]);
  return line;
}
