import { afterEach, describe, expect, it, vi } from "vitest";
import { age, learnClock, size, some, span } from "./format";

afterEach(() => {
  vi.useRealTimers();
});

describe("what people read", () => {
  it("tells a length of time in its largest useful unit", () => {
    expect([span(-5), span(0.62), span(119), span(120), span(7199), span(7200), span(172800)]).toEqual([
      "0 s",
      "0.6 s",
      "119 s",
      "2 min",
      "119 min",
      "2 h",
      "2 days",
    ]);
  });
  it("says never where there is no moment", () => {
    expect(age(null)).toBe("never");
  });
  it("tells ages by the service's clock, not by the browser's", () => {
    // A clock that stands: between two readings of a running one a millisecond may pass, and 22 days be 21.
    vi.useFakeTimers({ toFake: ["Date"] });
    learnClock(new Date(Date.now() + 22 * 86_400_000).toISOString());
    expect(age(new Date(Date.now()).toISOString())).toBe("22 days");
    learnClock(null);
    learnClock("not a date");
    expect(age(new Date(Date.now()).toISOString())).toBe("22 days");
    learnClock(new Date().toISOString());
    expect(age("2026-01-01T00:00:00Z", "2026-01-03T00:00:00Z")).toBe("2 days");
  });
  it("counts bytes in decimal units", () => {
    expect([size(0), size(999), size(1000), size(1_560_120), size(270_600_000_000)]).toEqual([
      "0 B",
      "999 B",
      "1.0 kB",
      "1.6 MB",
      "271 GB",
    ]);
  });
  it("names some and counts the rest", () => {
    expect(some(["a", "b", "c"], 2)).toBe("a, b and 1 more");
    expect(some(["a", "b"], 2)).toBe("a, b");
  });
});
