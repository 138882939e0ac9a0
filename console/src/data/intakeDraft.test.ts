import { expect, test } from "vitest";
import { sameSerial } from "./intakeDraft";

test("a label names a drive with spaces, dashes and prefixes, never by a few characters", () => {
  expect(sameSerial("KVL02 6D2VN", "KVL026D2VN")).toBe(true);
  expect(sameSerial("kvl02-6d2vn", "KVL026D2VN")).toBe(true);
  expect(sameSerial("SN KVL026D2VN", "KVL026D2VN")).toBe(true);
  expect(sameSerial("6D2VN", "KVL026D2VN")).toBe(true);
  expect(sameSerial("2VN", "KVL026D2VN")).toBe(false);
  expect(sameSerial("", "KVL026D2VN")).toBe(false);
  expect(sameSerial("KVL026D2VM", "KVL026D2VN")).toBe(false);
});
