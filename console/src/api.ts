import createClient from "openapi-fetch";
import { learnClock } from "./format";
import type { components, paths } from "./schema";

export type Schema = components["schemas"];
export type Problem = Schema["Problem"] & { fingerprint?: string };

/** The service said no; carries its problem details (RFC 9457). */
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
  get slug(): string {
    return this.problem.type.split(":").pop() ?? "";
  }
}

export const client = createClient<paths>({
  baseUrl: "/",
  headers: { "x-fennox-console": "1" },
});

const outOfReach: Problem = {
  type: "about:blank",
  title: "out of reach",
  status: 0,
  detail: "The service does not answer.",
  remedy: "Is it running? The page tries again by itself.",
  field: null,
};

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Unwrap an answer, or throw its problem. */
export async function get<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await asked;
  } catch {
    throw new ProblemError(outOfReach);
  }
  learnClock(answer.response.headers.get("fennox-now"));
  if (answer.error !== undefined || !answer.response.ok) {
    throw new ProblemError((answer.error as Problem | undefined) ?? outOfReach);
  }
  return answer.data as T;
}
