import { useState } from "react";
import styled from "styled-components";
import type { Bay, Compared, Grade, Signal, Verdict, Volumes } from "../data/types";
import { BayCard, FarBay } from "../parts/BayCard";
import { Bar, Button, NotAvailable, Section, Serial, Tape } from "../parts/basics";
import { Choices } from "../parts/Choices";
import { LotCounts, LotUsable, SiblingLines } from "../parts/LotFigures";
import { VerdictMark, VerdictWord } from "../parts/marks";
import { SiblingSection, VolumeSection } from "../parts/Papers";
import { SignalFigure } from "../parts/SignalFigure";
import { VerdictPanel } from "../parts/VerdictPanel";
import { color } from "../theme/tokens";

const Body = styled.div`
  padding: 16px 24px 40px; display: grid; gap: 24px;
  & .row { display: flex; flex-wrap: wrap; gap: 16px; align-items: center; padding: 12px 0; } & .row.start { align-items: start; }
  & article { width: 400px; }
`;
const Wide = styled.div<{ $px: number }>`width: ${({ $px }) => $px}px; max-width: 100%;`;

const grades: Grade[] = ["healthy", "degrading", "replace", "undecided"];
const base: Bay = {
  name: "bay-1",
  bench: "",
  number: 1,
  address: "sim-sata-1",
  connection: "empty",
  attempts: 0,
  since: "2026-11-12T15:12:00Z",
  doing: { words: "Put a drive in." },
  action: "drive_in",
  next: { words: "put a drive in" },
};
const bays: Bay[] = [
  base,
  {
    ...base,
    name: "bay-4",
    number: 4,
    connection: "silent",
    attempts: 2,
    doing: { words: "No answer, attempt 2. Check its power." },
    action: "try_again",
    next: { words: "check power" },
  },
  {
    ...base,
    name: "bay-7",
    number: 7,
    connection: "stuck",
    doing: { words: "IDENTIFY DEVICE: no answer for 30 s. Others continue." },
    note: { words: "Leave it in the bay" },
    action: "try_again",
    next: { words: "leave it" },
  },
];
const signal: Signal = {
  name: "pending",
  words: "pending sectors",
  unit: "sectors",
  usual: "usual 0",
  matters: true,
  value: 8,
  limit: 10,
  margin: { used: 8, of: 10, words: "8 of 10 used" },
  since: "+3",
  finding: 1,
  hours: [100, 200, 300, 400],
  values: [0, 2, 5, 8],
  readings: [1, 2, 3, 4],
};
const compared: Compared[] = [
  {
    words: "hours powered on",
    unit: "h",
    model: "Korvan K4-2000",
    median: 20_300,
    values: [19_100, 19_800, 20_100, 20_300, 20_400, 21_000, 41_806].map((value, i) => ({
      serial: `KVA075R2K${i}`,
      value,
      score: i === 6 ? 18 : 1,
      apart: i === 6,
    })),
  },
];
const volumes: Volumes = {
  at: "2026-11-12T15:12:00Z",
  scheme: "GPT",
  faults: [],
  says: { words: "The drive is sound, the file system is damaged: ext4 “tides” on partition 1." },
  volumes: [
    {
      partition: 1,
      start: 1_048_576,
      bytes: 2e11,
      kind: "ext4",
      label: "tides",
      state: "damaged",
      why: "it notes 3 errors of its own",
      checked: "damaged",
      checker: "e2fsck -n -f",
    },
    { partition: 2, start: 2e11, bytes: 1e9, state: "not said" },
  ],
};
const verdict: Verdict = {
  serial: "KVA077M511",
  seq: 1,
  at: "2026-11-12T15:12:00Z",
  grade: "degrading",
  duty: "everyday",
  policy: 7,
  reading: 4,
  notes: [],
  quiet: 12,
  unjudged: [],
  missing: [],
  advice: ["Keep a second copy of the data."],
  duties: [
    { duty: "carry", fitness: "does", words: "carry" },
    { duty: "everyday", fitness: "care", words: "everyday, with a second copy" },
  ],
  findings: [
    {
      rule: "pending",
      effect: "degrading",
      sentence: "8 pending sectors",
      detail: "0 at 100 h, first seen at 200 h",
      customer: "",
      signals: ["pending"],
      reading: 4,
      rests: [
        {
          signal: "pending",
          words: "pending sectors: 8",
          value: 8,
          source: "SMART data, attribute 197",
          page: "ata/attributes",
          offset: 55,
          length: 6,
        },
      ],
      margin: { used: 8, of: 10, words: "8 of 10 used" },
      source: "",
    },
  ],
};

/** Every part with made-up values: for those who change one. */
export default function PartsPage() {
  return (
    <Body>
      <h1>Parts</h1>
      <Section>
        <header>
          <h2>Verdict marks and words</h2>
        </header>
        <div className="row">
          {grades.map((g) => (
            <span key={g} className="row">
              <VerdictMark grade={g} size={56} />
              <VerdictWord grade={g} />
            </span>
          ))}
        </div>
      </Section>
      <Section>
        <header>
          <h2>Serial, buttons, bar, tape, not available</h2>
        </header>
        <div className="row">
          <Serial serial="KVA077M511" />
          <Button>Open</Button>
          <Button $filled>Review</Button>
          <Wide $px={200}>
            <Bar percent={41} label="A bar" />
          </Wide>
          <Wide $px={200}>
            <Tape share={0.4} ink={color.degrading} />
          </Wide>
          <NotAvailable reason="a rotating drive has none" />
        </div>
      </Section>
      <Section>
        <header>
          <h2>Bays</h2>
        </header>
        <div className="row">
          {bays.map((b) => (
            <BayCard key={b.name} bay={b} act={() => {}} />
          ))}
          {bays.map((b) => (
            <FarBay key={b.name} bay={b} />
          ))}
        </div>
      </Section>
      <Section>
        <header>
          <h2>Signal and verdict</h2>
        </header>
        <div className="row start">
          <SignalFigure
            signal={signal}
            all={{ signals: [signal], readings: 4, first_hours: 100, last_hours: 400, marks: [{ kind: "visit", hours: 250, reading: 3 }] }}
            ink={color.degrading}
            axis
          />
          <Wide $px={392}>
            <VerdictPanel verdict={verdict} sign={() => {}} overrule={() => {}} busy={false} />
          </Wide>
        </div>
      </Section>
      <Section>
        <header>
          <h2>Taking in</h2>
        </header>
        <Wide $px={368}>
          <Answer />
        </Wide>
      </Section>
      <div className="row start">
        <Wide $px={400}>
          <LotCounts counts={grades.map((grade, i) => ({ grade, drives: [19, 6, 3, 2][i] ?? 0 }))} of={30} />
        </Wide>
        <Wide $px={400}>
          <LotUsable
            usable={[
              { duty: "continuous", does: 16, care: 0, of: 30 },
              { duty: "everyday", does: 19, care: 6, of: 30 },
            ]}
          />
        </Wide>
        <Wide $px={400}>
          <SiblingLines compared={compared} />
        </Wide>
        <Wide $px={400}>
          <VolumeSection volumes={volumes} busy={false} look={() => {}} />
        </Wide>
        <Wide $px={400}>
          <SiblingSection siblings={{ model: "Korvan K4-2000", of: 19, apart: ["interface CRC errors 22, median 0 of 19"], rows: [] }} />
        </Wide>
      </div>
    </Body>
  );
}

function Answer() {
  const [value, choose] = useState<"yes" | "no">();
  return (
    <Choices
      question="Is the data wanted?"
      options={[
        { value: "yes", words: "Yes", press: "y" },
        { value: "no", words: "No", about: "nothing is kept", press: "n" },
      ]}
      value={value}
      choose={choose}
    />
  );
}
