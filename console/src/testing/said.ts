const blocks = new Set(
  [
    "ADDRESS ARTICLE ASIDE BUTTON CAPTION DD DETAILS DIALOG DIV DL DT FIELDSET FIGURE FOOTER FORM H1 H2 H3 HEADER",
    "LABEL LI MAIN NAV OL P SECTION SUMMARY TABLE TR UL",
  ].flatMap((names) => names.split(" ")),
);
const told = [
  "aria-label",
  "aria-expanded",
  "aria-pressed",
  "aria-checked",
  "aria-selected",
  "aria-valuenow",
  "href",
  "title",
  "placeholder",
  "value",
  "checked",
  "disabled",
];
/** Classes that say something of what they are on; all others are of styled-components. */
const classes = new Set("apart awaited bad big differs err grown no num over push soft step tick usual visit was wrong".split(" "));
const drawn = ["d", "points", "x", "y", "x1", "y1", "x2", "y2", "cx", "cy", "width", "height", "transform"];

/**
 * What a page says: its words, a line for each block; what is told of a control, how it is marked and where a figure draws, stands in
 * brackets.
 */
export function said(node: Element): string {
  const lines: string[] = [""];
  const add = (text: string) => {
    lines[lines.length - 1] += text;
  };
  const turn = () => {
    if (lines.at(-1)?.trim()) lines.push("");
  };
  const go = (e: Element) => {
    if (e.tagName === "STYLE" || e.tagName === "SCRIPT") return;
    const block = blocks.has(e.tagName);
    if (block) turn();
    if (e.tagName === "TD" || e.tagName === "TH") add(" | ");
    const svg = e.namespaceURI?.endsWith("svg");
    const notes = (svg ? [...drawn, "aria-label"] : told).flatMap((a) => {
      const v = e.getAttribute(a);
      return v === null ? [] : [`${a}${v === "" ? "" : `=${v.replace(/\d+\.\d{3,}/g, (n) => Number(n).toFixed(2))}`}`];
    });
    const style = e.getAttribute("style");
    if (style && !style.includes("clip")) notes.push(`style=${style.replace(/\d+\.\d{3,}/g, (n) => Number(n).toFixed(2))}`);
    const marks = [...e.classList].filter((c) => classes.has(c));
    if (marks.length > 0) notes.push(marks.map((c) => `.${c}`).join(" "));
    if (e instanceof HTMLCanvasElement) notes.push(`${e.width} by ${e.height}`);
    if (notes.length > 0) add(`[${svg ? `${e.tagName} ` : ""}${notes.join(" ")}] `);
    if (e instanceof HTMLInputElement || e instanceof HTMLTextAreaElement || e instanceof HTMLSelectElement) add(`{${e.value}} `);
    for (const child of e.childNodes) {
      if (child instanceof Element) go(child);
      else add((child.textContent ?? "").replace(/\s+/g, " "));
    }
    if (block) turn();
  };
  go(node);
  return `${lines
    .map((l) => l.trim())
    .filter(Boolean)
    .join("\n")}\n`;
}
