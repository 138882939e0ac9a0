/** Colours, type and space of the console. Components use these, never literals; light and dark are two sets of the same tokens. */

export interface Palette {
  paper: string;
  sheet: string;
  well: string;
  rule: string;
  edge: string;
  ink: string;
  ink2: string;
  ink3: string;
  accent: string;
  on: string;
  healthy: string;
  healthyTint: string;
  degrading: string;
  degradingTint: string;
  replace: string;
  replaceTint: string;
  undecided: string;
  undecidedTint: string;
  /** Slowness, from the drive's own pace to the slowest. */
  ribbon0: string;
  ribbon1: string;
  ribbon2: string;
  ribbon3: string;
  ribbon4: string;
  ribbon5: string;
}

export const light: Palette = {
  paper: "#FBFAF5",
  sheet: "#FFFFFF",
  well: "#F2EFE6",
  rule: "#D8D3C4",
  edge: "#857F70",
  ink: "#1B1C1E",
  ink2: "#4A4A48",
  ink3: "#66645D",
  accent: "#4A2560",
  on: "#FBFAF5",
  healthy: "#1F5190",
  healthyTint: "#E6EDF5",
  degrading: "#8F5D10",
  degradingTint: "#F6ECD9",
  replace: "#6E0722",
  replaceTint: "#F6E4E6",
  undecided: "#66665F",
  undecidedTint: "#ECEBE6",
  ribbon0: "#DDD8CA",
  ribbon1: "#BDB6A4",
  ribbon2: "#97907E",
  ribbon3: "#6D6759",
  ribbon4: "#44403A",
  ribbon5: "#161514",
};

export const dark: Palette = {
  paper: "#17181A",
  sheet: "#1E2022",
  well: "#26282B",
  rule: "#3A3C40",
  edge: "#7D7F83",
  ink: "#EDEBE4",
  ink2: "#C6C4BC",
  ink3: "#A09E97",
  accent: "#A897C4",
  on: "#17181A",
  healthy: "#83BDF5",
  healthyTint: "#1B2C3D",
  degrading: "#F2C06E",
  degradingTint: "#33290F",
  replace: "#E8697F",
  replaceTint: "#35171D",
  undecided: "#C9C9C4",
  undecidedTint: "#2B2C2D",
  ribbon0: "#303236",
  ribbon1: "#4A4D51",
  ribbon2: "#6C6E70",
  ribbon3: "#95958F",
  ribbon4: "#C3C0B6",
  ribbon5: "#F4F1E8",
};

/** The tokens as components use them: references to custom properties, so that a change of theme repaints nothing in React. */
export const color = Object.fromEntries(Object.keys(light).map((name) => [name, `var(--${name})`])) as unknown as Palette;

/** Type sizes with their line heights, px. */
export const type = {
  small: "13px/18px",
  body: "15px/22px",
  large: "18px/26px",
  title: "24px/32px",
  display: "36px/44px",
  far: "72px/76px",
} as const;

/** The same for a rule of a component: one size with its line height. */
export const text = Object.fromEntries(
  Object.entries(type).map(([name, size]) => [name, `font-size: ${size.split("/")[0]}; line-height: ${size.split("/")[1]};`]),
) as Record<keyof typeof type, string>;

/** The size alone, where the line's height is the place's. */
export const px = Object.fromEntries(Object.entries(type).map(([name, size]) => [name, size.split("/")[0]])) as Record<
  keyof typeof type,
  string
>;

export const face = '"Atkinson Hyperlegible Next Variable", sans-serif';
export const mono = '"Atkinson Hyperlegible Mono Variable", monospace';

/** Widths below which a layout changes, px. */
export const narrow = 900;
export const phone = 480;
export const medium = 1180;
