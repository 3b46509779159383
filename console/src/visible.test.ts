import { describe, expect, it } from "vitest";
import { meant, visible } from "./visible";

const STEERING = "web-9\u001b]0;gone\u0007\u202e9-bew\u009b31m\u2066\ufeff";

describe("what steers a page", () => {
  it("is shown as it is written", () => {
    for (const json of [JSON.stringify({ name: STEERING }), JSON.stringify({ name: STEERING }).replace("\u202e", "\\u202e")]) {
      const { name } = JSON.parse(visible(json)) as { name: string };
      expect(name).toBe("web-9\\u001b]0;gone\\u0007\\u202e9-bew\\u009b31m\\u2066\\ufeff");
    }
  });
  it("is not what has been written as an escape, nor lines, nor other languages", () => {
    for (const text of ["C:\\u001b", "a\nb\tc", "Færøyene, Ελλάδα, 日本", "\\\\u202e"]) {
      expect(JSON.parse(visible(JSON.stringify(text)))).toBe(text);
    }
  });
  it("goes back to the service as it was", () => {
    const shown = JSON.parse(visible(JSON.stringify(STEERING))) as string;
    expect(decodeURIComponent(meant(`/x?document=${encodeURIComponent(shown)}`))).toBe(`/x?document=${STEERING}`);
  });
});
