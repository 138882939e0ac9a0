import { useEffect, useRef } from "react";

/** Keys closer together than this are a scanner typing, ms. */
const scanGap = 35;
/** How long a digit waits for a second one, ms. */
const digitWait = 400;

/** Tells keys from scans. Pure but for the time it is given: feed it keys, it says what they amount to. */
export class KeyReader {
  private text = "";
  private last = Number.NEGATIVE_INFINITY;
  private scanning = false;

  /** Takes a key at a time (ms). Gives a finished scan on Enter, else nothing; `typed` keys are taken with `take`. */
  feed(key: string, at: number): string | undefined {
    const fast = at - this.last < scanGap;
    this.last = at;
    if (key === "Enter") {
      const scan = this.scanning && fast && this.text.length >= 3 ? this.text : undefined;
      this.text = "";
      this.scanning = false;
      return scan;
    }
    if (key.length !== 1) {
      if (key !== "Shift") this.text = ""; // a scanner types capitals with it
      this.scanning &&= key === "Shift";
      return undefined;
    }
    this.scanning = fast && this.text.length > 0;
    this.text = fast ? this.text + key : key;
    return undefined;
  }

  /** Whether the last key may still turn out to be part of a scan. */
  get busy() {
    return this.scanning;
  }
}

const typing = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || target.closest("[role=dialog]") !== null);

/** Single keys as commands, numbers as `number`, with the points typed before them, and what a scanner types as `scan`.
 * Keys meant for a field or a dialog are left alone. */
export function useShortcuts(
  keys: Record<string, () => void>,
  number?: (n: number, before: string) => void,
  scan?: (text: string) => void,
) {
  const current = useRef({ keys, number, scan });
  current.current = { keys, number, scan };
  useEffect(() => {
    const reader = new KeyReader();
    let digits = "";
    let points = "";
    let timer: ReturnType<typeof setTimeout> | undefined;
    const pressed = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
      const scanned = reader.feed(e.key, e.timeStamp);
      clearTimeout(timer);
      if (scanned) {
        e.preventDefault();
        digits = "";
        points = "";
        current.current.scan?.(scanned);
        return;
      }
      const key = e.key;
      if (key.length > 1) return current.current.keys[key]?.(); // no scanner types it
      if (/^[0-9]$/.test(key) && current.current.number) digits += key;
      else if (key === "." && current.current.number && digits === "") points += key;
      timer = setTimeout(
        () => {
          const n = Number(digits);
          const before = points;
          digits = "";
          points = "";
          if (reader.busy) return;
          if (n > 0) current.current.number?.(n, before);
          else current.current.keys[key]?.();
        },
        /^[0-9.]$/.test(key) ? digitWait : scanGap + 5,
      );
    };
    addEventListener("keydown", pressed);
    return () => {
      removeEventListener("keydown", pressed);
      clearTimeout(timer);
    };
  }, []);
}
