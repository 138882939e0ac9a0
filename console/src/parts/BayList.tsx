import { useEffect, useState } from "react";
import { Button, GridList, GridListItem, Input, Label, Switch, TextField, useDragAndDrop } from "react-aria-components";
import styled from "styled-components";
import type { Bay } from "../data/types";
import { color, phone, px, text } from "../theme/tokens";
import { bayWords, capital } from "./format";

/** What is made of a bay; what is absent stays as it is. */
export interface BaySetting {
  number?: number;
  label?: string;
  hidden?: boolean;
}

const columns = "44px 72px minmax(140px, 220px) minmax(0, 1fr) 96px";

/** What stands above the columns, for the eye: each field has its own label for those who hear it. */
const Heads = styled.div`
  display: grid; grid-template-columns: ${columns}; gap: 0 16px; max-width: 1000px; padding-bottom: 4px; ${text.small} color: ${color.ink3};
  @media (max-width: ${phone}px) { display: none; }
`;
const List = styled(GridList)`
  border-top: 1px solid ${color.ink}; outline: none; max-width: 1000px;
  & .react-aria-DropIndicator[data-drop-target] { outline: 2px solid ${color.accent}; }
`;
const Row = styled(GridListItem)`
  display: grid; grid-template-columns: ${columns}; gap: 0 16px; align-items: center; min-height: 56px;
  border-bottom: 1px solid ${color.rule}; outline: none;
  &[data-focus-visible] { outline: 2px solid ${color.accent}; outline-offset: -2px; }
  &[data-dragging] { opacity: 0.5; }
  & input { width: 100%; min-height: 44px; padding: 0 8px; font: inherit; color: inherit; background: ${color.sheet};
    border: 1px solid ${color.edge}; border-radius: 0; }
  & label { position: absolute; width: 1px; height: 1px; overflow: hidden; clip-path: inset(50%); }
  & .what { min-width: 0; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  & .what small { display: block; ${text.small} color: ${color.ink3}; overflow: hidden; text-overflow: ellipsis; }
  @media (max-width: ${phone}px) { grid-template-columns: 44px 56px minmax(0, 1fr) 76px; gap: 4px 8px; padding: 8px 0;
    & .what { grid-column: 2 / 5; grid-row: 2; } }
`;
const Handle = styled(Button)`
  width: 44px; min-height: 44px; border: 0; background: none; color: ${color.ink2}; cursor: grab; font-size: ${px.large};
  &[data-focus-visible] { outline: 2px solid ${color.accent}; }
`;
const Shown = styled(Switch)`
  display: flex; align-items: center; gap: 8px; min-height: 44px; cursor: pointer; position: static !important;
  width: auto !important; height: auto !important; clip-path: none !important;
  & i { width: 20px; height: 20px; border: 2px solid ${color.edge}; display: grid; place-items: center; }
  &[data-selected] i::after { content: ""; width: 10px; height: 10px; background: ${color.ink}; }
  &[data-focus-visible] i { outline: 2px solid ${color.accent}; outline-offset: 2px; }
`;

/** A field that keeps what is typed until somebody leaves it or presses Enter. */
function Field({ name, value, numeric, done }: { name: string; value: string; numeric?: boolean; done: (text: string) => void }) {
  const [text, type] = useState(value);
  useEffect(() => type(value), [value]);
  const leave = () => text.trim() !== value && done(text.trim());
  return (
    <TextField value={text} onChange={type} onBlur={leave} onKeyDown={(e) => e.key === "Enter" && leave()}>
      <Label>{name}</Label>
      <Input inputMode={numeric ? "numeric" : "text"} autoComplete="off" maxLength={numeric ? 4 : 40} />
    </TextField>
  );
}

/** The bays of a bench as people order, number and call them. A row is dragged by pointer, or by Enter on its handle and the arrow keys. */
export function BayList({
  title,
  bays,
  set,
  arrange,
}: {
  title: string;
  bays: Bay[];
  set: (bay: string, setting: BaySetting) => void;
  arrange: (bays: string[]) => void;
}) {
  const { dragAndDropHooks } = useDragAndDrop({
    getItems: (keys) => [...keys].map((key) => ({ "text/plain": String(key) })),
    onReorder: ({ keys, target }) => {
      const rest = bays.map((b) => b.name).filter((name) => !keys.has(name));
      const at = rest.indexOf(String(target.key)) + (target.dropPosition === "after" ? 1 : 0);
      arrange([...rest.slice(0, at), ...[...keys].map(String), ...rest.slice(at)]);
    },
  });
  return (
    <>
      <Heads aria-hidden="true">
        <span />
        <span>number</span>
        <span>label</span>
        <span>what it holds, and the address of the port</span>
        <span>at the bench</span>
      </Heads>
      <List aria-label={`Bays of ${title}`} dragAndDropHooks={dragAndDropHooks} keyboardNavigationBehavior="tab" selectionMode="none">
        {bays.map((bay) => (
          <Row key={bay.name} id={bay.name} textValue={capital(bayWords(bay.name))}>
            <Handle slot="drag" aria-label={`Move ${bayWords(bay.name)}`}>
              ⠿
            </Handle>
            <Field
              name={`Number of ${bayWords(bay.name)}`}
              numeric
              value={String(bay.number)}
              done={(text) => /^[1-9]\d{0,3}$/.test(text) && set(bay.name, { number: Number(text) })}
            />
            <Field name={`Label of ${bayWords(bay.name)}`} value={bay.label ?? ""} done={(label) => set(bay.name, { label })} />
            <div className="what">
              {bay.drive ? `${bay.drive.serial} · ${bay.drive.model}` : (bay.attached?.model ?? bay.attached?.transport ?? bay.connection)}
              <small>{bay.address}</small>
            </div>
            <Shown
              isSelected={!bay.hidden}
              onChange={(shown) => set(bay.name, { hidden: !shown })}
              aria-label={`Show ${bayWords(bay.name)}`}
            >
              <i /> shown
            </Shown>
          </Row>
        ))}
      </List>
    </>
  );
}
