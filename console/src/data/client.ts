import createClient from "openapi-fetch";
import { capital } from "../parts/format";
import { apiPath } from "./base";
import type { paths } from "./contract.gen";
import type { Problem } from "./types";

export const api = createClient<paths>({ baseUrl: apiPath("") });

/** What the service answered instead of what was asked for. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    const detail = capital(problem.detail); // a command line puts its name before it, a page begins with it
    super(problem.advice ? `${detail}. ${problem.advice}` : detail);
  }
}

/** Whether an error is of a kind that the service names. */
export const isProblem = (error: unknown, kind: string) => error instanceof ProblemError && error.problem.type === `urn:hylostat:${kind}`;

/** Unpacks an answer: its data, or its problem as an exception. */
export async function data<T>(answer: Promise<{ data?: T; error?: Problem }>): Promise<T> {
  const { data, error } = await answer;
  if (error) throw new ProblemError(error);
  return data as T;
}

/** Unpacks an answer that is a page of a list, with what its next link asks for; undefined: the list ends. */
export async function page<T>(answer: Promise<{ data?: T[]; error?: Problem; response: Response }>) {
  const rows = await data(answer);
  const link = /<[^>?]*\?([^>]*)>; rel="next"/.exec((await answer).response.headers.get("Link") ?? "");
  return { rows, next: link?.[1] === undefined ? undefined : new URLSearchParams(link[1]) };
}

/** Asks a person to say again who they are; true when they have. */
type Prover = () => Promise<boolean>;
let prover: Prover | undefined;

/** Says who asks for it. */
export function proveBy(ask: Prover | undefined) {
  prover = ask;
}

/** Requests that are under way, to be sent once more when their sender has said who they are. */
const sent = new WeakMap<Request, Request>();

api.use({
  onRequest({ request }) {
    if (request.method !== "GET") sent.set(request, request.clone());
    return undefined;
  },
  async onResponse({ request, response }) {
    const again = sent.get(request);
    if (response.status !== 403 || !again || !prover) return undefined;
    const problem = (await response.clone().json()) as Problem;
    if (problem.type !== "urn:hylostat:say-again-who-you-are" || !(await prover())) return undefined;
    return fetch(again);
  },
});
