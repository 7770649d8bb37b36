import { expect, test } from "vitest";

import { readMoment } from "./times";
import { ago, instant, readSize, size, span, word } from "./words";

test("sizes are in binary units", () => {
  expect(size(0)).toBe("0 B");
  expect(size(1023)).toBe("1023 B");
  expect(size(1024 * 1024 * 1.5)).toBe("1.5 MiB");
});

test("a moment goes to a command as it is", () => {
  for (const text of ["2026-03-04 14:05:30", "2026-12-31 00:00:00"])
    expect(new Date(instant(readMoment(text)!))).toEqual(readMoment(text));
});

test("relative moments and spans", () => {
  expect(readMoment("-2h", 7_200_000)!.getTime()).toBe(0);
  expect(ago(new Date(0), 3 * 3600_000)).toBe("3 hours ago");
  expect(ago(new Date(120_000), 0)).toBe("in 2 minutes");
  expect(span(45)).toBe("45 s");
});

test("a command to copy does nothing but what it says, whatever files are called", () => {
  for (const plain of ["2026/transect-3/page 1.txt".replace(" ", "_"), "Kräuter/植物", "-1d".slice(1)])
    expect(word(plain)).toBe(plain);
  expect(word("a page")).toBe("'a page'");
  expect(word("x; reboot")).toBe("'x; reboot'");
  expect(word("$(reboot)`reboot`")).toBe("'$(reboot)`reboot`'");
  expect(word("it's")).toBe("'it'\\''s'");
  expect(word("--in-place")).toBe("'./--in-place'");
  expect(word("a\u00a0b")).toBe("'a\u00a0b'");
  expect(word("")).toBe("''");
});

test("sizes read back, and what is no size is refused", () => {
  for (const n of [0, 512, 4096, 20 * 1024 ** 3, 1.5 * 1024 ** 4]) expect(readSize(size(n))).toBe(n);
  expect(readSize(" 20GiB ")).toBe(20 * 1024 ** 3);
  for (const text of ["", "much", "20 GB", "-1", "0.3 B", "1e3"]) expect(readSize(text)).toBeUndefined();
});
