/** When a task of a plan recurs, as people choose it: a day of some kind and a time; "own" is a rule nothing here says. */
export type When = { on: string; at: string };

export const readings = [
  ["15m", "every 15 min"],
  ["1h", "every hour"],
  ["6h", "every 6 h"],
  ["12h", "every 12 h"],
  ["1d", "every day"],
  ["7d", "every 7 days"],
  ["30d", "every 30 days"],
] as const;

export const days = [
  ["", "never"],
  ["daily", "every day"],
  ["MO", "Mondays"],
  ["TU", "Tuesdays"],
  ["WE", "Wednesdays"],
  ["TH", "Thursdays"],
  ["FR", "Fridays"],
  ["SA", "Saturdays"],
  ["SU", "Sundays"],
  ["1", "monthly, the 1st"],
  ["15", "monthly, the 15th"],
  ["1SA", "first Saturday of a month"],
  ["1SU", "first Sunday of a month"],
] as const;

const two = (n: string | undefined) => (n ?? "0").padStart(2, "0");

/** Reads what a plan says: a rule of RFC 5545 as the service writes them, or as people do ("SU 03:00"). */
export function whenOf(said: string | undefined): When {
  if (!said) return { on: "", at: "03:00" };
  const own = { on: "own", at: said };
  const plain = /^(\S+) (\d\d:\d\d)$/.exec(said);
  if (plain) return days.some(([on]) => on === plain[1]) ? { on: plain[1] ?? "", at: plain[2] ?? "" } : own;
  const parts = new Map(said.split(";").map((p) => p.split("=") as [string, string]));
  const on = { DAILY: "daily", WEEKLY: parts.get("BYDAY"), MONTHLY: parts.get("BYDAY") ?? parts.get("BYMONTHDAY") }[
    parts.get("FREQ") ?? ""
  ];
  const known = ["FREQ", "BYDAY", "BYMONTHDAY", "BYHOUR", "BYMINUTE"];
  if (!on || !days.some(([day]) => day === on) || [...parts.keys()].some((k) => !known.includes(k))) return own;
  if (!/^\d+$/.test(parts.get("BYHOUR") ?? "") || !/^\d*$/.test(parts.get("BYMINUTE") ?? "")) return own;
  return { on, at: `${two(parts.get("BYHOUR"))}:${two(parts.get("BYMINUTE"))}` };
}

/** Says it to the service; nothing for never. */
export const sayWhen = ({ on, at }: When) => (on === "" ? undefined : on === "own" ? at : `${on} ${at}`);
