import { VueQueryPlugin } from "@tanstack/vue-query";
import { mount } from "@vue/test-utils";
import { describe, expect, it } from "vitest";
import type { Schema } from "../api";
import BackupLine from "./BackupLine.vue";
import CensusLine from "./CensusLine.vue";
import ConcernList from "./ConcernList.vue";
import FindingList from "./FindingList.vue";
import HazardTable from "./HazardTable.vue";
import LadderLine from "./LadderLine.vue";
import ProofTable from "./ProofTable.vue";
import RunProgress from "./RunProgress.vue";

const NOON = Date.parse("2026-03-01T12:00:00Z");

function run(changes: Partial<Schema["RunShown"]> = {}): Schema["RunShown"] {
  return {
    id: "a".repeat(32),
    kind: "take",
    state: "running",
    system: "web-9",
    store: "attic",
    routine: null,
    backup: null,
    sheet: null,
    by: "harbour-admin",
    created: "2026-03-01T11:59:00Z",
    started: "2026-03-01T12:00:00Z",
    ended: null,
    attempt: 1,
    stop_asked: false,
    wants_passphrase: false,
    reason: "",
    remedy: "",
    problem: null,
    step: "Read and store the documents",
    documents: 12,
    bytes: 34_000,
    expected_seconds: null,
    outcome: "",
    odd: "",
    waits_for: "",
    steps: [],
    result: null,
    ...changes,
  };
}

function progress(shown: Schema["RunShown"], now = NOON + 10_000) {
  return mount(RunProgress, { props: { run: shown, now }, global: { plugins: [VueQueryPlugin] } });
}

function backup(day: number, changes: Partial<Schema["BackupShown"]> = {}): Schema["BackupShown"] {
  return {
    id: `${day}`.padStart(32, "0"),
    system: "web-9",
    system_id: "s",
    kind: "linux-server",
    name: "",
    note: "",
    purpose: "backup",
    time: `2026-02-${String(day).padStart(2, "0")}T02:40:00Z`,
    sequence: day,
    stores: ["attic"],
    routine: "nightly",
    run: "r",
    documents: 1,
    bytes: 1,
    new_bytes: 1,
    unchanged: true,
    partial: false,
    parts: [],
    machine: { id: "m", product: "debian", version: "12", build: "", platform: "", name: "" },
    census: {},
    findings: [],
    left_out: [],
    held: false,
    held_because: "",
    doubtful: false,
    expired: false,
    kept_by: [],
    ...changes,
  } as Schema["BackupShown"];
}

describe("the progress of a run", () => {
  it("tells the step, the amount, and what is left by earlier runs", () => {
    const text = progress(run({ expected_seconds: 60 })).text();
    expect(text).toContain("running: Read and store the documents");
    expect(text).toContain("12 documents, 34.0 kB");
    expect(text).toContain("about 50 s left");
  });
  it("never shows a full bar before the end, and none after it", () => {
    const late = progress(run({ expected_seconds: 4 }), NOON + 600_000).get("progress").element as HTMLProgressElement;
    expect(late.value).toBeLessThan(late.max);
    expect(progress(run({ state: "done", ended: "2026-03-01T12:00:05Z" })).find("progress").exists()).toBe(false);
  });
  it("tells for which run it waits", () => {
    const lined = run({ state: "queued", started: null, waits_for: "Waiting for a restore of web-9, begun 5 min ago." });
    expect(progress(lined).text()).toContain("queued: Waiting for a restore of web-9, begun 5 min ago.");
  });
  it("does not pretend to know the end of a first run", () => {
    const bar = progress(run()).get("progress");
    expect(bar.attributes("value")).toBeUndefined();
    expect(progress(run()).text()).not.toContain("left");
  });
  it("says how long it took, and why it failed with what to do", () => {
    const text = progress(
      run({ state: "failed", ended: "2026-03-01T12:03:00Z", reason: "The disk is full.", remedy: "Free space." }),
    ).text();
    expect(text).toContain("took 3 min");
    expect(text).toContain("The disk is full. Free space.");
  });
  it("says in words that a person is waited for, and asks for a passphrase only when the run does", () => {
    expect(progress(run({ state: "waiting" })).text()).toContain("waiting for you");
    expect(progress(run()).find("input[type=password]").exists()).toBe(false);
    expect(progress(run({ wants_passphrase: true })).find("input[type=password]").exists()).toBe(true);
  });
  it("tells which attempt a step belongs to once there are several", () => {
    const steps = [
      { title: "Reach it", started: "2026-03-01T12:00:00Z", ended: null, attempt: 1 },
      { title: "Reach it again", started: "2026-03-01T12:01:00Z", ended: null, attempt: 2 },
    ];
    const text = progress(run({ steps })).text();
    expect(text).toContain("Reach it again (attempt 2)");
    expect(text).not.toContain("(attempt 1)");
  });
});

function concern(changes: Partial<Schema["Concern"]> = {}): Schema["Concern"] {
  return {
    id: "c0ffee",
    severity: "low",
    noun: "service",
    about: "drills",
    text: "Something is wrong.",
    means: "",
    remedy: "Mend it.",
    since: null,
    ended: null,
    muted_until: null,
    muted_because: "",
    muted_by: "",
    ...changes,
  };
}

function concernList(concerns: Schema["Concern"][]) {
  const props = { concerns, now: "2026-03-01T12:00:00Z" };
  return mount(ConcernList, { props, global: { plugins: [VueQueryPlugin], stubs: { RouterLink: true } } });
}

describe("concerns and findings", () => {
  it("says with a word, and not by colour alone, how bad it is", () => {
    const concerns: Schema["Concern"][] = [
      concern({ id: "1", severity: "high", text: "web-9 has no backup.", means: "It is rebuilt from memory." }),
      concern({ id: "2", severity: "low", text: "web-8 is in no routine.", since: "2026-03-01T12:00:00Z" }),
    ];
    const text = concernList(concerns).text();
    expect(text).toContain("It is rebuilt from memory.");
    expect(text).toContain("At risk");
    expect(text).toContain("Look at");
    expect(text).toContain("(since 01 Mar 2026");
  });
  it("says so when nothing is wrong", () => {
    expect(concernList([]).text()).toContain("Nothing is wrong");
  });
  it("says who muted a concern, until when and why", () => {
    const text = concernList([
      concern({ muted_until: "2026-03-09T12:00:00Z", muted_by: "purser", muted_because: "it is replaced" }),
    ]).text();
    expect(text).toContain("Muted by purser until 09 Mar 2026");
    expect(text).toContain("it is replaced");
  });
  it("shows blockers before warnings before notes", () => {
    const findings = (["note", "blocker", "warning"] as const).map((severity) => ({
      severity,
      code: severity,
      text: `this is a ${severity}`,
      remedy: "",
    }));
    const words = mount(FindingList, { props: { findings } })
      .findAll("li")
      .map((item) => item.text().split(" ")[0]);
    expect(words.map((word) => word?.slice(0, 4))).toEqual(["Bloc", "Warn", "Note"]);
  });
});

describe("the proof", () => {
  const proof: Schema["Proof"] = {
    proved: false,
    at: "2026-03-01T12:00:00Z",
    left_out_lists: [],
      machine: [],
    lists: [
      { name: "packages", backup: 3, fresh: 1, after: 2, missing: ["nginx"], extra: [] },
      { name: "documents of settings", backup: 9, fresh: null, after: 9, missing: [], extra: ["odd"] },
    ],
    checks: [{ title: "It answers", passed: false, detail: "no answer" }],
  };
  it("names what is missing, and never counts what was not counted", () => {
    const table = mount(ProofTable, { props: { proof } });
    expect(table.text()).toContain("Not proved");
    const [packages, documents] = table.findAll("tbody tr").map((row) => row.findAll("td").map((cell) => cell.text()));
    expect(packages).toEqual(["packages", "3", "1", "2", "nginx", "nothing"]);
    expect(documents).toEqual(["documents of settings", "9", "–", "9", "nothing", "odd"]);
    expect(table.get("li").text()).toMatch(/^Failed\s*It answers no answer$/);
  });
  it("names what was not compared", () => {
    const left = { ...proof, left_out_lists: ["accounts", "documents of registry"] };
    expect(mount(ProofTable, { props: { proof: left } }).text()).toContain("Not compared: accounts, documents of registry");
  });
  it("says proved only when it is", () => {
    const text = mount(ProofTable, { props: { proof: { ...proof, proved: true } } }).text();
    expect(text).toContain("Proved: all that was compared is there again");
  });
});

describe("the line of backups", () => {
  const backups = [backup(1, { unchanged: false }), backup(2), backup(3, { expired: true }), backup(4, { held: true })];
  const line = mount(BackupLine, { props: { backups, now: "2026-02-05T00:00:00Z" } });
  it("has a mark for each, tall where something changed, in order of time", () => {
    const marks = line.findAll("rect");
    expect(marks.map((mark) => Number(mark.attributes("height")))).toEqual([26, 10, 10, 10]);
    const places = marks.map((mark) => Number(mark.attributes("x")));
    expect(places).toEqual([...places].sort((a, b) => a - b));
    expect(Math.max(...places)).toBeLessThan(1000);
  });
  it("tells everything in words too", () => {
    expect(line.get("svg").attributes("aria-label")).toContain("4 backups");
    expect(line.get("svg").attributes("aria-label")).toContain("1 of them changed something");
    expect(line.findAll("title").map((title) => title.text())[2]).toContain("marked to go");
  });
  it("draws nothing where there is nothing", () => {
    expect(mount(BackupLine, { props: { backups: [], now: "2026-02-05T00:00:00Z" } }).find("svg").exists()).toBe(false);
  });
});

describe("CensusLine", () => {
  const told = (...counts: number[]) => {
    const days = counts.map((count, day) => ({ at: `2026-02-0${day + 1}T02:40:00Z`, count }));
    return mount(CensusLine, { props: { list: "users", counts: days } });
  };

  it("says since when a list is as long as it is, and how long it was before", () => {
    expect(told(5, 5, 7, 7).text()).toContain("5 until 03 Feb 2026");
    expect(told(5, 7, 5).text()).toContain("7 until 03 Feb 2026");
    expect(told(5, 5, 5).text()).toBe("the same in every backup shown");
  });

  it("draws steps, higher where the list is longer", () => {
    const path = told(1, 9).get("path").attributes("d") ?? "";
    const [before, after] = [...path.matchAll(/[V ](\d+\.\d)(?= |$)/g)].map((found) => Number(found[1]));
    expect(before).toBeGreaterThan(after ?? Infinity);
  });
});

describe("LadderLine", () => {
  const kept = (day: number, changes: object) => ({
    backup: `${day}`,
    name: "",
    time: `2026-02-0${day}T02:40:00Z`,
    kept_by: ["daily for 60 days"],
    goes: false,
    goes_at: "2026-04-01T00:00:00Z",
    ...changes,
  });

  it("has a line for each system with backups, and tells stays from goes by height as well as colour", () => {
    const systems = [
      { system: "web-9", backups: [kept(3, { goes_at: null }), kept(2, {}), kept(1, { goes: true, kept_by: [] })] },
      { system: "holm-store", backups: [] },
    ];
    const line = mount(LadderLine, { props: { systems } });
    expect(line.findAll("svg").map((svg) => svg.attributes("aria-label"))).toEqual(["web-9: 2 stay, 1 go"]);
    const heights = line.findAll("rect").map((mark) => Number(mark.attributes("height")));
    expect(heights).toEqual([...heights].sort((a, b) => b - a));
    expect(new Set(heights).size).toBe(3);
    expect(line.text()).toContain("goes now");
  });
});

describe("hazards of a restore", () => {
  const met: Schema["Met"] = { sheet: "s1", system: "web-9", purpose: "practise", at: "2026-03-01T12:00:00Z", kind_version: 3 };
  function hazard(changes: Partial<Schema["Hazard"]>): Schema["Hazard"] {
    const empty = { question: "", leaves: "", met: null, met_elsewhere: null };
    return { phase: "check", step: "It serves", sorts: ["must-hold"], ...empty, ...changes };
  }
  function table(items: Schema["Hazard"][]) {
    const hazards = { kind: "linux-server", kind_version: 4, items, versions: [] };
    return mount(HazardTable, { props: { system: "web-9", hazards }, global: { stubs: { RouterLink: { template: "<a><slot /></a>" } } } });
  }

  it("says of each whether and where it was met", () => {
    const other = { ...met, system: "web-8", kind_version: 4 };
    const said = table([
      hazard({ met }),
      hazard({ step: "Restart it", met_elsewhere: other }),
      hazard({ step: "Switch it off", sorts: ["asks"], question: "Is it off?" }),
    ]).text();
    expect(said).toContain("2 of 3 were never met in a proved restore of web-9");
    expect(said).toMatch(/practised .*, by version 3 of the kind/);
    expect(said).toMatch(/never\s*at web-8: practised/);
    expect(said).toContain("Is it off?");
  });

  it("claims nothing of a kind that has none", () => {
    expect(table([]).text()).not.toContain("were met");
  });
});
