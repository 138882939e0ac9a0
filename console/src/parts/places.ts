import styled from "styled-components";
import { color } from "../theme/tokens";

/** Which bytes of which page to show. */
export interface Place {
  page: string;
  offset: number;
  length: number;
}

/** A button that reads as text and leads somewhere. */
export const Plain = styled.button`
  background: none; border: 0; text-align: left; cursor: pointer; text-decoration: underline; text-decoration-color: ${color.edge};
  text-underline-offset: 3px; white-space: nowrap; min-height: 24px;
`;
