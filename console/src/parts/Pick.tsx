import { Button, Label, ListBox, ListBoxItem, Popover, Select, SelectValue } from "react-aria-components";
import styled from "styled-components";
import { color, text } from "../theme/tokens";

const Open = styled(Button)`
  display: flex; align-items: center; gap: 8px; width: 100%; min-height: 44px; padding: 0 12px; border: 1px solid ${color.edge};
  background: ${color.paper}; color: ${color.ink}; text-align: left; font: inherit; & svg { margin-left: auto; flex: none; }
  & > span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
`;
const List = styled(ListBox)`
  background: ${color.sheet}; border: 1px solid ${color.edge}; border-top: 2px solid ${color.ink}; max-height: 320px; overflow: auto;
  min-width: var(--trigger-width); outline: none;
  & [role="option"] { padding: 8px 12px; min-height: 40px; cursor: pointer; outline: none; ${text.body}
    border-bottom: 1px solid ${color.rule}; }
  & [data-selected] { font-weight: 600; } 
  & [data-focused] { background: ${color.well}; outline: 2px solid ${color.accent}; outline-offset: -2px; }
`;

/** One of some, in a window that opens: value and words of each. */
export function Pick({
  label,
  value,
  options,
  onChange,
}: {
  label: string;
  value: string;
  options: readonly (readonly [value: string, words: string])[];
  onChange: (value: string) => void;
}) {
  return (
    <Select value={value} onChange={(key) => key !== null && onChange(String(key))}>
      <Label>{label}</Label>
      <Open>
        <SelectValue />
        <svg width="16" height="16" viewBox="0 0 16 16" aria-hidden="true" fill="none" stroke="currentColor" strokeWidth="2">
          <path d="M3 6L8 11L13 6" />
        </svg>
      </Open>
      <Popover>
        <List>
          {options.map(([key, words]) => (
            <ListBoxItem key={key} id={key} textValue={words}>
              {words}
            </ListBoxItem>
          ))}
        </List>
      </Popover>
    </Select>
  );
}
