import { describe, expect, it } from "vitest";
import { get, ProblemError } from "./api";

const problem = {
  type: "urn:fennox:not-found",
  title: "not found",
  status: 404,
  detail: "There is no system web-0.",
  remedy: "Look at the list.",
  field: "system",
};

describe("asking the service", () => {
  it("gives what it answered", async () => {
    expect(await get(Promise.resolve({ data: { a: 1 }, response: new Response("{}") }))).toEqual({ a: 1 });
  });
  it("throws its problem, with a stable name", async () => {
    const asked = get(Promise.resolve({ error: problem, response: new Response("", { status: 404 }) }));
    await expect(asked).rejects.toBeInstanceOf(ProblemError);
    await asked.catch((error: ProblemError) => {
      expect(error.slug).toBe("not-found");
      expect(error.message).toBe("There is no system web-0.");
    });
  });
  it("says plainly that the service is out of reach", async () => {
    const asked = get(Promise.reject(new TypeError("network")));
    await asked.catch((error: ProblemError) => {
      expect(error.problem.status).toBe(0);
      expect(error.message).toContain("does not answer");
    });
    expect.assertions(2);
  });
});
