import { describe, expect, it } from "vitest";
import { KeyReader } from "./shortcuts";

/** Types keys a given gap apart and gives what the last one amounts to. */
function type(text: string, gap: number) {
  const reader = new KeyReader();
  let at = 1000;
  let result: string | undefined;
  for (const key of [...text, "Enter"]) {
    result = reader.feed(key, at);
    at += gap;
  }
  return result;
}

describe("a scanner", () => {
  it("is known by its pace", () => {
    expect(type("KVA077M511", 8)).toBe("KVA077M511");
  });
  it("is not a person", () => {
    expect(type("KVA077M511", 120)).toBeUndefined();
  });
  it("is not two keys struck at once", () => {
    expect(type("w1", 10)).toBeUndefined();
  });
  it("keeps shortcuts waiting while it types", () => {
    const reader = new KeyReader();
    reader.feed("1", 0);
    expect(reader.busy).toBe(false);
    reader.feed("2", 9);
    expect(reader.busy).toBe(true);
  });
});
