import { useState } from "react";
import type { Duty, Language, ReworkKind } from "./types";

/** What was answered so far. It stays in this browser until the drive is taken in. */
export interface IntakeDraft {
  serial: string;
  bay?: string;
  complaint: string;
  wanted?: boolean;
  copied: boolean;
  noise?: "quiet" | "clicks" | "still" | "none";
  ticket: string;
  customer: string;
  /** Of the owner's papers; undefined: that of the customer's last visit. */
  language?: Language;
  made: string;
  label: string;
  release: "none" | ReworkKind;
  owner: string;
  duty: Duty;
  /** Of the open intake that ends by this one, as somebody reads it off the order. */
  insteadTicket: string;
  insteadCustomer: string;
}

export const emptyDraft: IntakeDraft = {
  serial: "",
  complaint: "",
  copied: false,
  ticket: "",
  customer: "",
  made: "",
  label: "",
  release: "none",
  owner: "",
  duty: "everyday",
  insteadTicket: "",
  insteadCustomer: "",
};

const key = "hylostat.intake";

function kept(): IntakeDraft {
  try {
    return { ...emptyDraft, ...JSON.parse(localStorage.getItem(key) ?? "{}") };
  } catch {
    return emptyDraft; // somebody else's text under our key
  }
}

export function useIntakeDraft(bay?: string): [IntakeDraft, (change: Partial<IntakeDraft>) => void, () => void] {
  const [draft, setDraft] = useState<IntakeDraft>(() => (bay ? { ...kept(), bay } : kept()));
  const set = (change: Partial<IntakeDraft>) =>
    setDraft((before) => {
      const next = { ...before, ...change };
      localStorage.setItem(key, JSON.stringify(next));
      return next;
    });
  const forget = () => {
    localStorage.removeItem(key);
    setDraft(emptyDraft);
  };
  return [draft, set, forget];
}

const bare = (s: string) => s.replace(/[^0-9a-z]/gi, "").toUpperCase();

/** Whether what a label says is the serial a drive names: labels have spaces and dashes, and often a prefix. */
export function sameSerial(label: string, serial: string): boolean {
  const [l, s] = [bare(label), bare(serial)];
  return l !== "" && (l === s || (l.length >= 5 && (s.endsWith(l) || l.endsWith(s))));
}
