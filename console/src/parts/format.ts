/**
 * Numbers and times as the console writes them. Thousands are kept together by U+00A0. The rules are those of the service's room wording;
 * its testdata/numbers.json holds both to the same results.
 */

export const number = (x: number, digits = 0): string => {
  const [whole = "0", part] = Math.abs(x).toFixed(digits).split(".");
  const grouped = whole.replace(/\B(?=(\d{3})+(?!\d))/g, "\u00A0");
  const shown = grouped + (part && Number(part) ? `.${part}` : "");
  return (x < 0 && shown !== "0" ? "-" : "") + shown;
};

/** Groups the thousands of a whole number in digits, however long: 128-bit counters fit no number of JavaScript's. */
export const grouped = (digits: string): string => (/^\d+$/.test(digits) ? digits.replace(/\B(?=(\d{3})+(?!\d))/g, "\u00A0") : digits);

/** A number of bytes in decimal units, as on the label. */
export function size(bytes: number, digits?: number): string {
  let x = bytes;
  for (const unit of ["B", "kB", "MB", "GB", "TB"]) {
    if (x < 999.5 || unit === "TB") return `${number(x, digits ?? (x < 10 ? 1 : 0))} ${unit}`;
    x /= 1000;
  }
  return "";
}

/** A place on a drive of so many bytes, all of one drive in the same unit. */
export function spot(at: number, capacity: number, digits = 0): string {
  const [unit, word] = capacity >= 1e10 ? [1e9, "GB"] : [1e6, "MB"];
  return `${number(at / unit, digits)} ${word}`;
}

/** A signal's number and its unit, apart: the unit is set smaller. */
export function quantity(x: number, unit: string): [value: string, unit: string] {
  if (unit !== "B") return [number(x, 1), unit];
  const [value = "", scaled = ""] = size(x, 1).split(" ");
  return [value, scaled];
}

/** Power-on hours, with years and months where that says more. */
export function hours(h: number): string {
  const months = Math.floor(h / 730.5);
  const age = months >= 12 ? `${Math.floor(months / 12)} y ${months % 12} m` : `${months} m`;
  return `${number(h)} h${months > 0 ? ` (${age})` : ""}`;
}

/** A share of 1 in per cent, rounded down: all of it is all of it. */
export function share(x: number): string {
  const p = 100 * x;
  if (p > 0 && p < 0.1) return "under 0.1 %";
  return p < 10 ? `${(Math.floor(10 * p) / 10).toFixed(1)} %` : `${Math.floor(p)} %`;
}

/** A time to go. */
export function left(seconds: number): string {
  const whole = Math.max(0, Math.round(seconds));
  if (whole < 60) return `${whole} s`;
  const minutes = Math.round(whole / 60);
  if (minutes < 60) return `${minutes} min`;
  return `${number(Math.floor(minutes / 60))} h${minutes % 60 ? ` ${minutes % 60} min` : ""}`;
}

const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const full = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const clock = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });

export const dayOf = (at: string | Date) => day.format(new Date(at));
export const dateOf = (at: string | Date) => full.format(new Date(at));
export const clockOf = (at: string | Date) => clock.format(new Date(at));
export const momentOf = (at: string | Date) => `${dayOf(at)}, ${clockOf(at)}`;

/** A serial in two parts: the ending is what people read out. */
export const parts = (serial: string): [before: string, ending: string] =>
  serial.length > 7 ? [serial.slice(0, -5), serial.slice(-5)] : ["", serial];

export const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1);

export const count = (n: number, one: string, many: string) => `${number(n)} ${n === 1 ? one : many}`;

/** A bay in a column or a heading of bays: "3" of the shop's own bench, "field/3" of another. */
export const bayShort = (name: string) => name.replace(/^bay-/, "");

/** A bay in a sentence. */
export const bayWords = (name: string) => `bay ${bayShort(name)}`;

/** The bench a bay is of; the shop's own has no name. */
export const benchOf = (name: string) => (name.includes("/") ? (name.split("/")[0] ?? "") : "");
