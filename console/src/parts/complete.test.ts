import { expect, test } from "vitest";

import published from "../../../internal/policy/schema.json";
import { complete, type Schema } from "./complete";

const schema = published as Schema; // the very one that the service publishes
const at = (marked: string) => {
  const cursor = marked.indexOf("|");
  return complete(marked.replace("|", ""), cursor, schema);
};
const labels = (marked: string) => at(marked).map((s) => s.label);

test("keys at the top, without those that are there", () => {
  expect(labels("policy: a\n|")).toContain("keep");
  expect(labels("policy: a\n|")).not.toContain("policy");
  expect(labels("policy: a\nvolumes: {a: b}\nke|\ngrace: 1 day\n")).toEqual(["keep"]);
  expect(labels("po|")).toEqual(["policy"]);
});

test("what is chosen takes the place of what was typed", () => {
  const [s] = at("policy: a\nsk|");
  expect(s).toMatchObject({ insert: "skip_unchanged: ", from: 10 });
  expect(s.help).not.toBe("");
});

test("keys of a place, of a milestone, of quiesce", () => {
  expect(labels("keep:\n  larkfield:\n    |")).toEqual(
    expect.arrayContaining(["newest", "hourly", "yearly", "by_hand"]),
  );
  expect(labels("keep:\n  larkfield:\n    newest: 3\n    |")).not.toContain("newest");
  expect(labels("milestones:\n  - |")).toEqual(["name", "on", "for", "at"]);
  expect(labels("milestones:\n  - name: x\n    |")).toEqual(["on", "for", "at"]);
  expect(labels("quiesce:\n  f|")).toEqual(["freeze", "failing"]);
});

test("values: phrases, yes or no, words of a list", () => {
  expect(labels("take:\n  - every|")).toEqual(["every 15 minutes between 07:00 and 19:00 on mon-fri"]);
  expect(labels("take:\n  - |").length).toBeGreaterThan(5);
  expect(labels("skip_unchanged: |")).toEqual(["true", "false"]);
  expect(labels("week_starts: t|")).toEqual(expect.arrayContaining(["tuesday", "thursday"]));
  expect(labels("quiesce:\n  freeze: x\n  failing: s|")).toEqual(["stop", "spread"]);
  expect(labels("milestones:\n  - name: x\n    on: yearly|")).toEqual(
    expect.arrayContaining(["yearly on 25 december"]),
  );
});

test("nothing where it knows nothing", () => {
  expect(labels("policy: my-|")).toEqual([]);
  expect(labels("volumes: {a: |")).toEqual([]);
  expect(labels("keep:\n  larkfield: {newest: 3, |")).toEqual([]);
});
