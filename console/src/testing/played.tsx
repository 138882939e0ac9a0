import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { configure } from "@testing-library/react";
import type { ReactNode } from "react";
import { vi } from "vitest";

/** What the console asked the service for. */
export interface Asked {
  method: string;
  path: string;
  body?: unknown;
}

/** An answer of a service that is played: a body, or a problem with its status. */
export type Answer = (asked: Asked) => Answered | Promise<Answered>;
interface Answered {
  status?: number;
  body?: unknown;
  link?: string;
}

// A machine that does other work, too, may stand still for seconds: what is awaited comes later then, and nothing else changes.
configure({ asyncUtilTimeout: 20_000 });

// What browsers have, and the document of tests has not.
globalThis.CSS ??= { escape: (name: string) => name.replace(/[^\w-]/g, (c) => `\\${c}`) } as typeof CSS;

let answer: Answer = () => ({ status: 599 });
let all: Asked[] = [];

// The client takes these when it is made: so they stand before it is.
/** The real one, for those who record. */
export const played = globalThis.fetch;
const Whole = globalThis.Request;
globalThis.Request = class extends Whole {
  constructor(url: string | URL | Request, init?: RequestInit) {
    super(typeof url === "string" ? new URL(url, "http://shop.example") : url, init);
  }
};
globalThis.fetch = async (of: RequestInfo | URL) => {
  const request = of as Request;
  const url = new URL(request.url);
  const text = await request.text();
  const asked = {
    method: request.method,
    path: url.pathname.replace("/api/v1", "") + url.search,
    body: text ? JSON.parse(text) : undefined,
  };
  all.push(asked);
  const { status = 200, body, link } = await answer(asked);
  if (body === undefined) return new Response(null, { status: status === 200 ? 204 : status });
  return new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json", ...(link && { Link: link }) } });
};

/** Plays a service: it answers so from now on, and what is asked of it is in the list. */
export function playService(so: Answer): Asked[] {
  answer = so;
  all = [];
  return all;
}

/** Lines to the service that stay open, by address: a test says what comes over them. */
export class PlayedLine extends EventTarget {
  static open: PlayedLine[] = [];
  closed = false;
  constructor(readonly url: string) {
    super();
    PlayedLine.open.push(this);
  }
  /** Lets a message come. */
  say(kind: string, body?: unknown) {
    this.dispatchEvent(body === undefined ? new Event(kind) : new MessageEvent(kind, { data: JSON.stringify(body) }));
  }
  close() {
    this.closed = true;
  }
}

export function playLines() {
  PlayedLine.open = [];
  vi.stubGlobal("EventSource", PlayedLine);
}

export function freshCache() {
  return new QueryClient({ defaultOptions: { queries: { retry: false, staleTime: Number.POSITIVE_INFINITY } } });
}

export const within = (cache: QueryClient) =>
  function Cached({ children }: { children: ReactNode }) {
    return <QueryClientProvider client={cache}>{children}</QueryClientProvider>;
  };
