import { Label, Radio, RadioGroup } from "react-aria-components";
import styled from "styled-components";
import { color, text } from "../theme/tokens";

const Question = styled.fieldset`border: 0; min-width: 0;`;
const Group = styled(RadioGroup)<{ $columns: number }>`
  border-top: 1px solid ${color.rule}; padding-top: 8px;
  & > .of { ${text.small} color: ${color.ink2}; display: block; padding-bottom: 5px; }
  & > .all { display: grid; grid-template-columns: repeat(${({ $columns }) => $columns}, minmax(0, 1fr)); padding: 0 0 1px 1px; }
`;
const Option = styled(Radio)`
  display: grid; grid-template-columns: 16px minmax(0, 1fr) auto; gap: 12px; align-items: center; min-height: 44px; padding: 0 12px;
  cursor: pointer;
  border: 1px solid ${color.rule}; margin: 0 0 -1px -1px; position: relative;
  &::before { content: ""; width: 16px; height: 16px; border: 2px solid ${color.edge}; }
  &[data-selected] { border-color: ${color.ink}; background: ${color.well}; font-weight: 600; z-index: 1; }
  &[data-selected]::before { border-color: ${color.ink};
    background: linear-gradient(${color.ink}, ${color.ink}) center / 8px 8px no-repeat; }
  &[data-focus-visible] { z-index: 2; }
  & small { display: block; ${text.small} font-weight: 400; color: ${color.ink2}; }
  & kbd { font: inherit; ${text.small} font-weight: 600; border: 1px solid ${color.edge}; padding: 0 5px; color: ${color.ink2}; }
`;

export interface Option<T extends string> {
  value: T;
  words: string;
  about?: string;
  /** Answers while the question is in focus. */
  press: string;
}

/** A question with a few answers. While it is in focus a key gives the answer. */
export function Choices<T extends string>({
  question,
  options,
  value,
  choose,
  columns = 2,
}: {
  question: string;
  options: readonly Option<T>[];
  value?: T;
  choose: (value: T) => void;
  columns?: number;
}) {
  return (
    <Question
      data-question=""
      onKeyDownCapture={(e) => {
        const found = options.find((o) => o.press === e.key);
        if (found && !e.ctrlKey && !e.metaKey && !e.altKey) {
          e.preventDefault();
          choose(found.value);
        }
      }}
    >
      <Group $columns={columns} value={value ?? null} onChange={(v) => choose(v as T)}>
        <Label className="of">{question}</Label>
        <div className="all">
          {options.map((o) => (
            <Option key={o.value} value={o.value} aria-keyshortcuts={o.press || undefined}>
              <span>
                {o.words}
                {o.about && <small>{o.about}</small>}
              </span>
              {o.press && <kbd>{o.press}</kbd>}
            </Option>
          ))}
        </div>
      </Group>
    </Question>
  );
}
