import { expect, test } from "vitest";

import type { Volume } from "../api/client";
import { fold, foldsBy } from "./folds";

const volume = (name: string, protection: string, labels = {}, kept = true) =>
  ({ name, protection, labels, protected: kept }) as unknown as Volume;

const some = [
  volume("z", "on target", { hall: "east" }),
  volume("a", "on target", { hall: "west" }),
  volume("m", "unprotected"),
  volume("k", "late", { hall: "west" }),
  volume("gone", "unprotected", {}, false),
  volume("b", "paused"),
];
const drawn = (by: string) => fold(some, by).map((f) => [f.label, f.open, f.volumes.map((v) => v.name).join(" ")]);

test("what needs a hand comes first, each volume once", () => {
  expect(drawn("nothing")).toEqual([["", true, "k m b a z gone"]]);
  expect(drawn("state")).toEqual([
    ["late", true, "k"],
    ["unprotected", true, "m"],
    ["paused", false, "b"],
    ["on target", false, "a z"],
    ["removed", false, "gone"],
  ]);
  expect(drawn("label hall")).toEqual([
    ["needs a hand", true, "k m"],
    ["east", false, "z"],
    ["west", false, "a"],
    ["without hall", false, "b gone"],
  ]);
  expect(foldsBy(some)).toEqual(["state", "label hall", "nothing"]);
  expect(fold([], "state")).toEqual([]);
});
