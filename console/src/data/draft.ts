import { useEffect, useState } from "react";
import { parseDocument } from "yaml";

/** A rule as a draft has it. */
export interface DraftRule {
  id: string;
  effect: string;
  when: string;
  says: string;
}

/** Reads the rules of a policy's text; an error says where it is no YAML. */
export function rulesOf(text: string): { rules: DraftRule[]; wrong?: string } {
  const doc = parseDocument(text);
  const first = doc.errors[0];
  if (first) return { rules: [], wrong: first.message.split("\n")[0] };
  const all = (doc.toJS() as { rules?: Partial<DraftRule>[] } | null)?.rules;
  return {
    rules: (Array.isArray(all) ? all : []).map((r) => ({
      id: String(r.id ?? ""),
      effect: String(r.effect ?? ""),
      when: String(r.when ?? ""),
      says: String(r.says ?? ""),
    })),
  };
}

/** Gives the text with one field of one rule changed; comments and everything else stay as they are. */
export function withRule(text: string, id: string, field: "when" | "says" | "effect", value: string): string {
  const doc = parseDocument(text);
  const at = rulesOf(text).rules.findIndex((r) => r.id === id);
  if (at < 0) return text;
  doc.setIn(["rules", at, field], value);
  return doc.toString({ lineWidth: 0 });
}

const key = "hylostat.draft";

interface Kept {
  /** The version it began as. */
  from: number;
  text: string;
}

/** The draft of this browser; it stays over a reload, until it is published or discarded. */
export function useDraft(): [draft: Kept | undefined, keep: (draft: Kept | undefined) => void] {
  const [draft, setDraft] = useState<Kept | undefined>(() => {
    try {
      const kept = JSON.parse(localStorage.getItem(key) ?? "null") as Kept | null;
      return kept && typeof kept.text === "string" && typeof kept.from === "number" ? kept : undefined;
    } catch {
      return undefined;
    }
  });
  useEffect(() => {
    if (draft) localStorage.setItem(key, JSON.stringify(draft));
    else localStorage.removeItem(key);
  }, [draft]);
  return [draft, setDraft];
}

/** A value that has settled for a while. */
export function useSettled<T>(value: T, ms: number): T {
  const [settled, settle] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => settle(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}
