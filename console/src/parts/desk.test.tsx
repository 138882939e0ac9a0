import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Drive, Volumes } from "../data/types";
import { Choices } from "./Choices";
import { LotUsable, SiblingLines } from "./LotFigures";
import { ChooseReadings, Papers, SiblingSection, VolumeSection } from "./Papers";

afterEach(cleanup);

test("a key answers the question in focus, and no other key does", () => {
  const choose = vi.fn();
  render(
    <Choices
      question="Is the data wanted?"
      options={[
        { value: "yes", words: "Yes", press: "y" },
        { value: "no", words: "No", press: "n" },
      ]}
      choose={choose}
    />,
  );
  const radio = screen.getAllByRole("radio")[0] as HTMLElement;
  fireEvent.keyDown(radio, { key: "x" });
  fireEvent.keyDown(radio, { key: "n", ctrlKey: true });
  expect(choose).not.toHaveBeenCalled();
  fireEvent.keyDown(radio, { key: "n" });
  expect(choose).toHaveBeenCalledWith("no");
});

test("what does with care is told apart from what does, and an empty lot divides by nothing", () => {
  render(
    <LotUsable
      usable={[
        { duty: "continuous", does: 0, care: 0, of: 0 },
        { duty: "everyday", does: 19, care: 6, of: 30 },
      ]}
    />,
  );
  expect(screen.getByText("19 of 30")).toBeTruthy();
  expect(screen.getByText("63 %")).toBeTruthy();
  expect(screen.getByText("0 %")).toBeTruthy();
});

test("a sibling that stands apart is named beside its value", () => {
  const values = [10, 11, 12, 10, 11, 12, 90].map((value, i) => ({
    serial: `KVA07LOT0${i}`,
    value,
    score: i === 6 ? 40 : 0,
    apart: i === 6,
  }));
  render(<SiblingLines compared={[{ words: "hours", unit: "h", model: "K4", median: 11, values }]} />);
  expect(screen.getByText("LOT06")).toBeTruthy();
  expect(screen.getByRole("img").getAttribute("aria-label")).toBe("hours: 1 stand apart");
});

test("too few siblings say nothing, and are not said to be alike", () => {
  render(<SiblingSection siblings={{ model: "K4", of: 3, apart: [], rows: [] }} />);
  expect(screen.getByText(/Too few/)).toBeTruthy();
});

const drive = { serial: "KVA07 7M511", model: "K4" } as Drive;
const intake = {
  id: 5,
  bay: "bay-1",
  at: "2026-11-12T15:12:00Z",
  by: "Dov",
  wanted: false,
  copied: false,
  at_risk: false,
  duty: "everyday",
} as const;

test("a drive is handed over once, and its papers stay", () => {
  const handOver = vi.fn();
  const putRight = vi.fn();
  const { rerender } = render(<Papers drive={{ ...drive, intake }} putRight={putRight} handOver={handOver} became={vi.fn()} />);
  fireEvent.click(screen.getByRole("button", { name: "Put the intake right …" }));
  expect(putRight).toHaveBeenCalled();
  fireEvent.click(screen.getByRole("button", { name: "Hand over …" }));
  expect(handOver).toHaveBeenCalled();
  expect(screen.getByText("Statement").getAttribute("href")).toBe("/api/v1/drives/KVA07%207M511/statement?format=pdf");
  const handover = { goes: "returned", data: "untouched", by: "Dov", at: intake.at } as const;
  rerender(<Papers drive={{ ...drive, intake: { ...intake, handover } }} putRight={putRight} handOver={handOver} became={vi.fn()} />);
  expect(screen.getAllByRole("button").map((b) => b.textContent)).toEqual(["What became of it …"]);
  expect(screen.getByText("Label")).toBeTruthy();
});

test("a volume that was not checked says why, and never that it is clean", () => {
  const volumes: Volumes = {
    at: intake.at,
    faults: ["the first header of the GPT is damaged"],
    says: { words: "Damaged: the partition table." },
    volumes: [{ partition: 1, start: 0, bytes: 2e11, kind: "ext4", state: "clean", checked: "not checked", said: "in use" }],
  };
  render(<VolumeSection volumes={volumes} busy={false} />);
  expect(screen.getByText("not checked: in use")).toBeTruthy();
  expect(screen.getByText("Partition table: the first header of the GPT is damaged.")).toBeTruthy();
  expect(screen.queryByRole("button")).toBeNull();
});

test("any two readings are chosen", () => {
  const choose = vi.fn();
  const readings = [3, 2, 1].map((seq) => ({ seq, at: intake.at }));
  render(<ChooseReadings readings={readings as never} before={1} now={3} choose={choose} />);
  fireEvent.change(screen.getByLabelText("Compare reading"), { target: { value: "2" } });
  expect(choose).toHaveBeenCalledWith(2, 3);
});
