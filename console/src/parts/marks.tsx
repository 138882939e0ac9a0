import styled from "styled-components";
import type { Grade } from "../data/types";
import { color } from "../theme/tokens";

const shapes: Record<Grade, string> = {
  healthy: "M8 2H16V22H8Z",
  degrading: "M15 2H22L9 22H2Z",
  replace: "M3 2H11V14L3 9Z M13 10L21 15V22H13Z",
  undecided: "M12 1a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z M12 9a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z M12 17a3 3 0 1 1 0 6a3 3 0 1 1 0-6Z",
};

export const gradeColor: Record<Grade, string> = {
  healthy: color.healthy,
  degrading: color.degrading,
  replace: color.replace,
  undecided: color.undecided,
};

export const gradeTint: Record<Grade, string> = {
  healthy: color.healthyTint,
  degrading: color.degradingTint,
  replace: color.replaceTint,
  undecided: color.undecidedTint,
};

/** A verdict's shape. The word always stands beside it. */
export function VerdictMark({ grade, size = 16, fill }: { grade: Grade; size?: number; fill?: string }) {
  return (
    <svg width={size} height={size} viewBox="0 0 24 24" aria-hidden="true" fill={fill ?? gradeColor[grade]}>
      <path d={shapes[grade]} />
    </svg>
  );
}

const Beside = styled.span<{ $grade: Grade }>`
  & svg {
    display: inline;
    vertical-align: -2px;
    margin-right: 8px;
  }
  white-space: nowrap;
  font-weight: 600;
  color: ${({ $grade }) => gradeColor[$grade]};
`;

/** Mark and word. */
export function VerdictWord({ grade }: { grade: Grade }) {
  return (
    <Beside $grade={grade}>
      <VerdictMark grade={grade} />
      {grade}
    </Beside>
  );
}

const glyphs = {
  silent: "M1 8H6M6 4V12M10 4V12M10 8H15",
  stuck: "M1 8H11M7 4L11 8L7 12M14 2V14",
  locked: "M3 7H13V14H3ZM5 7V2H11V7",
  copy: "M2 5H10V15H2Z M5 3V1H8 M10 1H14V4 M14 7V11H12",
  eject: "M2 14H14M8 11V2M4 6L8 2L12 6",
};

/** A small drawing in the line of text it explains. */
export function Glyph({ name }: { name: keyof typeof glyphs }) {
  return (
    <svg width="16" height="16" viewBox="0 0 16 16" fill="none" stroke="currentColor" strokeWidth="2" aria-hidden="true">
      <path d={glyphs[name]} />
    </svg>
  );
}
