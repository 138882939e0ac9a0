import createClient from "openapi-fetch";
import type { paths } from "./contract.gen";
import type { Problem } from "./types";

export const api = createClient<paths>({ baseUrl: "/api/v1" });

/** What the service answered instead of what was asked for. */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.advice ? `${problem.detail}. ${problem.advice}` : problem.detail);
  }
}

/** Unpacks an answer: its data, or its problem as an exception. */
export async function data<T>(answer: Promise<{ data?: T; error?: Problem }>): Promise<T> {
  const { data, error } = await answer;
  if (error) throw new ProblemError(error);
  return data as T;
}
