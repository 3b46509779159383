import createClient from "openapi-fetch";
import { learnClock } from "./format";
import type { components, paths } from "./schema";
import { meant, visible } from "./visible";

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

/** What could not be done without a fresh proof is done again once the person has given it. */
const kept = new Map<string, Request>();
let prove: (() => Promise<void>) | null = null;

/** Whoever shows the dialog that asks for the proof. */
export function provesBy(asking: () => Promise<void>): void {
  prove = asking;
}

/** The same answer, with nothing in it that turns or hides what a page shows. */
async function shown(response: Response): Promise<Response> {
  const bare = response.status === 204 || response.status === 304; // these may have no body, not even an empty one
  if (bare || !response.headers.get("content-type")?.includes("json")) return response;
  const { status, statusText, headers } = response;
  return new Response(visible(await response.text()), { status, statusText, headers });
}

client.use({
  onRequest({ request: asked, id, schemaPath }) {
    const url = meant(asked.url);
    const request = url === asked.url ? asked : new Request(url, asked);
    if (request.method !== "GET" && !schemaPath.startsWith("/api/v1/session")) kept.set(id, request.clone());
    return request;
  },
  async onResponse({ response, id }) {
    const again = kept.get(id);
    kept.delete(id);
    if (again === undefined || response.status !== 403 || prove === null) return shown(response);
    const problem = (await response.clone().json()) as Problem;
    if (problem.type !== "urn:fennox:proof-needed") return shown(response);
    try {
      await prove();
    } catch {
      return shown(response); // the person does not want to: the problem stands
    }
    return shown(await fetch(again));
  },
  onError({ id }) {
    kept.delete(id);
  },
});

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
