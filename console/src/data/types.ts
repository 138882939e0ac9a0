import type { components } from "./contract.gen";

/** The contract's types under short names. */
type Schemas = components["schemas"];
export type Attribute = Schemas["Attribute"];
export type Bay = Schemas["Bay"];
export type Comparison = Schemas["Comparison"];
export type Drive = Schemas["Drive"];
export type Duty = Schemas["Duty"];
export type Entry = Schemas["Entry"];
export type Fact = Schemas["Event"];
export type Fault = Schemas["Fault"];
export type Finding = Schemas["Finding"];
export type Grade = Schemas["Grade"];
export type Page = Schemas["Page"];
export type Problem = Schemas["Problem"];
export type Reading = Schemas["Reading"];
export type Run = Schemas["Run"];
export type SelfTest = Schemas["SelfTest"];
export type Sheet = Schemas["Sheet"];
export type Service = Schemas["Service"];
export type Signal = Schemas["Signal"];
export type Signals = Schemas["Signals"];
export type Verdict = Schemas["Verdict"];
