import { expect, it } from "vitest";
import { rulesOf, withRule } from "./draft";

const text = `# The shop's rules.
version: 2
rules:
  - id: pending
    when: now.pending > 0.0 # any
    effect: degrading
    says: "{pending} waiting"
    examples:
      - {now: {pending: 8}, fires: true}
  - {id: heat, when: now.temperature > 60.0, effect: note, says: Hot}
`;

it("changes one expression and nothing else", () => {
  const changed = withRule(text, "pending", "when", "now.pending > 3.0");
  expect(changed).toContain("when: now.pending > 3.0");
  expect(changed.replace("now.pending > 3.0", "now.pending > 0.0").replaceAll(" ", "")).toBe(text.replaceAll(" ", ""));
  expect(rulesOf(withRule(changed, "heat", "effect", "degrading")).rules).toEqual([
    { id: "pending", effect: "degrading", when: "now.pending > 3.0", says: "{pending} waiting" },
    { id: "heat", effect: "degrading", when: "now.temperature > 60.0", says: "Hot" },
  ]);
});

it("says where a text is no YAML", () => {
  expect(rulesOf("rules: [").wrong).toMatch(/line 1/);
});
