import { describe, expect, it } from "vitest";
import { sayWhen, whenOf } from "./when";

describe("when a task of a plan recurs", () => {
  it.each([
    [undefined, { on: "", at: "03:00" }, undefined],
    ["SU 03:00", { on: "SU", at: "03:00" }, "SU 03:00"],
    ["FREQ=WEEKLY;BYDAY=SU;BYHOUR=3;BYMINUTE=0", { on: "SU", at: "03:00" }, "SU 03:00"],
    ["FREQ=MONTHLY;BYDAY=1SA;BYHOUR=1;BYMINUTE=30", { on: "1SA", at: "01:30" }, "1SA 01:30"],
    ["FREQ=MONTHLY;BYMONTHDAY=15;BYHOUR=22", { on: "15", at: "22:00" }, "15 22:00"],
    ["FREQ=DAILY;BYHOUR=5;BYMINUTE=5", { on: "daily", at: "05:05" }, "daily 05:05"],
    ["FREQ=WEEKLY;INTERVAL=2;BYDAY=SU;BYHOUR=3", { on: "own", at: "FREQ=WEEKLY;INTERVAL=2;BYDAY=SU;BYHOUR=3" }, undefined],
    ["FREQ=WEEKLY;BYDAY=SU,WE;BYHOUR=3", { on: "own", at: "FREQ=WEEKLY;BYDAY=SU,WE;BYHOUR=3" }, undefined],
    ["FREQ=DAILY;BYHOUR=3,15", { on: "own", at: "FREQ=DAILY;BYHOUR=3,15" }, undefined],
    ["SU,WE 03:00", { on: "own", at: "SU,WE 03:00" }, undefined],
    ["90m", { on: "own", at: "90m" }, undefined],
  ])("%s", (said, when, again) => {
    expect(whenOf(said)).toEqual(when);
    expect(sayWhen(when)).toBe(again ?? said);
  });
});
