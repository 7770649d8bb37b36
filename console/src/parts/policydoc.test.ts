import { expect, test } from "vitest";

import { PolicyDoc } from "./policydoc";

const text = `# for the auditors
policy: survey # the name
volumes: {collection: herbarium}
take:
  - daily at 23:30
keep:
  larkfield: {newest: 8, daily: for 14 days}
grace: 24 hours
`;

test("the form reads what the text says", () => {
  const d = new PolicyDoc(text);
  expect(d.text("policy")).toBe("survey");
  expect(d.keys("volumes")).toEqual(["collection"]);
  expect(d.list("take")).toEqual(["daily at 23:30"]);
  expect(d.text("keep", "larkfield", "newest")).toBe("8");
  expect(d.text("keep", "larkfield", "daily")).toBe("for 14 days");
  expect(d.text("keep", "stonewick", "daily")).toBe("");
  expect(d.flag("skip_unchanged")).toBe(false);
});

test("a change of the form changes its line, and comments stay", () => {
  expect(new PolicyDoc(text).with(["grace"], "2 days")).toBe(text.replace("24 hours", "2 days"));
  expect(new PolicyDoc(text).with(["keep", "larkfield", "newest"], "12")).toBe(text.replace("newest: 8", "newest: 12"));
  expect(new PolicyDoc(text).with(["take", 1], "every 15 minutes")).toBe(
    text.replace("23:30\n", "23:30\n  - every 15 minutes\n"),
  );
  expect(new PolicyDoc(text).with(["keep", "stonewick", "weekly"], "8")).toContain("stonewick:\n    weekly: 8");
  expect(new PolicyDoc(text).with(["skip_unchanged"], true)).toContain("skip_unchanged: true");
  expect(new PolicyDoc(text).with(["milestones"], ["x"])).toContain("milestones:\n  - x");
});

test("what is emptied is left out, and what held only that", () => {
  const one = new PolicyDoc(text).with(["keep", "larkfield", "newest"], "");
  expect(one).toContain("larkfield: {daily: for 14 days}");
  const none = new PolicyDoc(one).with(["keep", "larkfield", "daily"], undefined);
  expect(none).not.toContain("keep");
  expect(none).toContain("# for the auditors");
  expect(new PolicyDoc(text).with(["take", 0], "")).not.toContain("take");
});

test("a broken text is not touched by a form", () => {
  expect(new PolicyDoc("policy: [").broken).toBe(true);
  expect(new PolicyDoc("- a\n- b\n").broken).toBe(true);
  expect(new PolicyDoc("").broken).toBe(false);
});
