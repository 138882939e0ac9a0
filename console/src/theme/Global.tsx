import { createGlobalStyle } from "styled-components";
import { color, dark, face, light, type Palette, type } from "./tokens";

const properties = (palette: Palette) =>
  Object.entries(palette)
    .map(([name, value]) => `--${name}: ${value};`)
    .join("");

export const Global = createGlobalStyle`
  :root { color-scheme: light; ${properties(light)} }
  @media (prefers-color-scheme: dark) { :root:not([data-theme="light"]) { color-scheme: dark; ${properties(dark)} } }
  :root[data-theme="dark"] { color-scheme: dark; ${properties(dark)} }
  *, *::before, *::after { box-sizing: border-box; margin: 0; padding: 0; border-radius: 0; }
  html { background: ${color.paper}; -webkit-text-size-adjust: 100%; }
  body { color: ${color.ink}; background: ${color.paper}; font: 400 ${type.body} ${face};
    font-variant-numeric: tabular-nums slashed-zero; font-synthesis: none; }
  b, strong, h1, h2, h3 { font-weight: 600; }
  h1, h2, h3 { font-size: inherit; line-height: inherit; }
  a { color: inherit; text-decoration-color: ${color.edge}; text-underline-offset: 3px; }
  a:hover { text-decoration-color: ${color.accent}; color: ${color.accent}; }
  ul, ol { list-style: none; }
  svg { display: block; flex: none; }
  button, input, textarea { font: inherit; color: inherit; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${color.accent}; outline-offset: 2px; }
  @media (prefers-reduced-motion: reduce) { *, *::before, *::after { transition: none !important; animation: none !important; } }
`;

/** For screen readers only. */
export const hidden = {
  position: "absolute",
  width: 1,
  height: 1,
  overflow: "hidden",
  clipPath: "inset(50%)",
  whiteSpace: "nowrap",
} as const;
