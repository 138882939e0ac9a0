import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import type { ReactNode } from "react";
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import { TokenDialog } from "./AccountParts";
import { CheckMenu, ReworkMenu } from "./CheckMenu";
import { CorrectionDialog, DutyDialog, HandoverDialog, LotDialog } from "./DeskDialogs";
import { DespiteDialog, NameDialog, OverruleDialog, ReleaseDialog, ReworkDialog } from "./Dialogs";
import { ProveDialog, SignIn } from "./SignIn";

afterEach(cleanup);

const done = vi.fn();
const close = vi.fn();
beforeEach(() => {
  done.mockReset();
  close.mockReset();
});

const button = (name: string | RegExp) => screen.getByRole("button", { name }) as HTMLButtonElement;
const type = (label: string | RegExp, words: string) => fireEvent.change(screen.getByLabelText(label), { target: { value: words } });
const choose = (name: string | RegExp) => fireEvent.click(screen.getByRole("radio", { name }));
const radios = () => screen.getAllByRole("radio").map((r) => r.closest("label")?.textContent);
const submit = () => fireEvent.submit(document.querySelector("form") as HTMLFormElement);
const show = (dialog: ReactNode) => render(dialog);

describe("a dialog", () => {
  it("asks for a name that is one", () => {
    show(<NameDialog name="" done={done} close={close} />);
    expect(button("Go on").disabled).toBe(true);
    type(/Your name/, "  ");
    submit();
    expect(done).not.toHaveBeenCalled();
    type(/Your name/, " Imre ");
    expect(button("Go on").disabled).toBe(false);
    submit();
    expect(done).toHaveBeenCalledWith("Imre");
    fireEvent.click(button("Cancel"));
    expect(close).toHaveBeenCalledOnce();
  });

  it.each([
    ["healthy", ["degrading", "replace"]],
    ["degrading", ["healthy", "replace"]],
    ["replace", ["healthy", "degrading"]],
    ["undecided", ["healthy", "degrading", "replace"]],
  ] as const)("overrules %s with another grade, and with a reason", (grade, others) => {
    show(<OverruleDialog grade={grade} wrong="it was followed by another" done={done} close={close} />);
    expect(radios()).toEqual(others);
    expect(screen.getByRole("alert").textContent).toBe("it was followed by another");
    const [first] = others;
    type(/Reason/, "it clicks");
    expect(button("Sign").disabled).toBe(true);
    choose(first);
    expect(button(`Sign: ${first}`).disabled).toBe(false);
    type(/Reason/, "  ");
    expect(button(`Sign: ${first}`).disabled).toBe(true);
    type(/Reason/, "it clicks");
    fireEvent.click(button(`Sign: ${first}`));
    expect(done).toHaveBeenCalledWith(first, "it clicks");
  });

  it("loads a surface that is at risk for a reason of three characters or more", () => {
    show(<DespiteDialog title="A quick check" done={done} close={close} />);
    type(/Reason/, " ab ");
    expect(button("Start it").disabled).toBe(true);
    type(/Reason/, " abc ");
    fireEvent.click(button("Start it"));
    expect(done).toHaveBeenCalledWith("abc");
  });

  it("releases the least first, and for somebody who consented", () => {
    show(<ReleaseDialog done={done} close={close} />);
    expect(radios().map((r) => r?.split(" ")[0])).toEqual(["mend", "renew", "overwrite"]);
    expect(screen.queryByRole("alert")).toBeNull();
    choose(/renew/);
    expect(button("Record the release").disabled).toBe(true);
    type(/Who consented/, " by phone ");
    fireEvent.click(button("Record the release"));
    expect(done).toHaveBeenCalledWith("renew", "by phone");
  });

  it.each(["mend", "renew", "overwrite"] as const)("asks for six characters of the serial before it begins to %s", (kind) => {
    show(<ReworkDialog kind={kind} bay="bay-2" ready={{ takes_s: 60, sectors: 16 }} done={done} close={close} />);
    expect(screen.getByRole("heading").textContent?.toLowerCase()).toBe(`${kind} the drive in bay 2`);
    for (const short of ["", "A7M51", " A7M51 "]) {
      type(/End of the serial/, short);
      expect(button(`Begin to ${kind}`).disabled).toBe(true);
      submit();
    }
    expect(done).not.toHaveBeenCalled();
    type(/End of the serial/, " 77M511 ");
    expect(button(`Begin to ${kind}`).disabled).toBe(false);
    submit();
    expect(done).toHaveBeenCalledWith("77M511");
  });

  it("does not begin twice", () => {
    show(<ReworkDialog kind="mend" bay="bay-2" ready={{ takes_s: 60, sectors: 16 }} busy done={done} close={close} />);
    type(/End of the serial/, "77M511");
    expect(button("Begin to mend").disabled).toBe(true);
  });

  it("asks for no serial as long as something else stands against it", () => {
    show(<ReworkDialog kind="mend" bay="bay-2" against="not released by the owner. Record a release." done={done} close={close} />);
    expect(screen.getByRole("alert").textContent).toBe("not released by the owner. Record a release.");
    expect(screen.queryByLabelText(/End of the serial/)).toBeNull();
    expect(screen.queryByRole("button", { name: "Begin to mend" })).toBeNull();
  });

  it("judges a drive for another duty than it has", () => {
    show(<DutyDialog now="everyday" busy={false} done={done} close={close} />);
    expect(radios()).toEqual(["everyday", "continuous", "archive", "carry"]);
    expect(button("Judge it for everyday").disabled).toBe(true);
    choose("archive");
    expect(button("Judge it for archive").disabled).toBe(false);
    submit();
    expect(done).toHaveBeenCalledWith("archive");
  });

  it("opens a lot with what is said of it, and nothing else", () => {
    show(<LotDialog done={done} close={close} />);
    submit();
    expect(done).toHaveBeenLastCalledWith({ duty: "everyday", wanted: false, copied: false });
    type("Ticket", " 2240 ");
    type("Customer", " Quillet Ferry office ");
    type("How many drives", "14");
    type("Complaint", " slow ");
    choose("carry");
    choose("wanted, and copied");
    choose("extended check");
    submit();
    expect(done).toHaveBeenLastCalledWith({
      ticket: "2240",
      customer: "Quillet Ferry office",
      complaint: "slow",
      expected: 14,
      duty: "carry",
      wanted: true,
      copied: true,
      check: "extended",
    });
    choose(/wanted, not copied/);
    type("How many drives", "many");
    submit();
    expect(done).toHaveBeenLastCalledWith(expect.objectContaining({ wanted: true, copied: false, expected: undefined }));
  });

  it("puts right what is changed, and nothing else", () => {
    const intake = { id: 4, ticket: "2214", customer: "Ms Adeyemi-Holt", wanted: true, copied: false, at_risk: true } as never;
    const { rerender } = show(<CorrectionDialog intake={intake} busy={false} done={done} close={close} />);
    expect(button("Put it right").disabled).toBe(true);
    expect(radios()).toEqual(["not wanted", "wanted, not copied: checks wait"]);
    type("Ticket", " 2241 ");
    submit();
    expect(done).toHaveBeenLastCalledWith({ ticket: "2241" });
    type("Ticket", "");
    choose("not wanted");
    expect(button("Put it right").disabled).toBe(true);
    type(/takes a lead/, " asked them ");
    submit();
    expect(done).toHaveBeenLastCalledWith({ ticket: "", wanted: false, why: "asked them" });
    rerender(
      <CorrectionDialog
        key="copied"
        intake={{ ...(intake as object), copied: true, at_risk: false } as never}
        busy={false}
        done={done}
        close={close}
      />,
    );
    expect(radios()).toContain("wanted, and copied");
    choose(/not copied/);
    submit();
    expect(done).toHaveBeenLastCalledWith({ wanted: true, copied: false });
  });

  it("hands over where it is said to go", () => {
    const { rerender } = show(<HandoverDialog intake={{ id: 4 } as never} unsigned busy={false} done={done} close={close} />);
    expect(screen.getByText(/Nobody has signed/)).toBeTruthy();
    expect(radios()).toEqual(["returned to its owner", "kept here", "scrapped", "what was done to it here, as recorded", "altered"]);
    submit();
    expect(done).not.toHaveBeenCalled();
    expect(button("Hand over").disabled).toBe(true);
    choose("kept here");
    submit();
    expect(done).toHaveBeenLastCalledWith({ goes: "kept" });
    choose("altered");
    type("Note", " in a box ");
    submit();
    expect(done).toHaveBeenLastCalledWith({ goes: "kept", data: "altered", note: "in a box" });
    rerender(<HandoverDialog intake={{ id: 4 } as never} unsigned={false} busy done={done} close={close} />);
    expect(screen.queryByText(/Nobody has signed/)).toBeNull();
    expect(button("Hand over").disabled).toBe(true);
  });

  it("lets nobody in without name and password", () => {
    show(<SignIn enter={done} busy={false} wrong="not so" />);
    expect(screen.getByRole("alert").textContent).toBe("not so");
    type("Name", " Dov ");
    expect(button("Sign in").disabled).toBe(true);
    type("Password", " secret ");
    expect(button("Sign in").disabled).toBe(false);
    submit();
    expect(done).toHaveBeenCalledWith("Dov", " secret ", undefined);
    cleanup();
    show(<SignIn enter={done} busy={false} coded />);
    type("Name", "Dov");
    type("Password", "secret");
    type(/Code of your device/, " 123456 ");
    submit();
    expect(done).toHaveBeenLastCalledWith("Dov", "secret", "123456");
  });

  it("asks again who somebody is, and tells when that failed", async () => {
    const prove = vi.fn().mockRejectedValueOnce(new Error("do not belong together")).mockResolvedValueOnce({});
    show(<ProveDialog name="Maud" coded={false} prove={prove} done={done} />);
    expect(screen.queryByLabelText(/Code/)).toBeNull();
    type("Password", "a guess");
    submit();
    expect((await screen.findByRole("alert")).textContent).toBe("do not belong together");
    expect(done).not.toHaveBeenCalled();
    type("Password", "kelp and gravel");
    submit();
    await vi.waitFor(() => expect(done).toHaveBeenCalledWith(true));
    expect(prove).toHaveBeenLastCalledWith("kelp and gravel", undefined);
    fireEvent.click(button("Cancel"));
    expect(done).toHaveBeenLastCalledWith(false);
  });

  it("makes a token that may little and ends, unless somebody says otherwise", () => {
    show(<TokenDialog make={done} close={close} busy={false} />);
    expect(button("Make it").disabled).toBe(true);
    type("What it is for", " label printer ");
    submit();
    expect(done).toHaveBeenLastCalledWith({ name: "label printer", scope: "reads", days: 365 });
    choose("Technician");
    type(/Days/, "");
    submit();
    expect(done).toHaveBeenLastCalledWith({ name: "label printer", scope: "technician", days: undefined });
    type(/Days/, "x");
    expect(button("Make it").disabled).toBe(true);
  });
});

describe("a menu", () => {
  const items = () =>
    screen.getAllByRole("menuitem").map((i) => `${i.querySelector("b")?.textContent}${i.getAttribute("aria-disabled") ? ", off" : ""}`);

  it("has the checks from minutes to hours", () => {
    show(<CheckMenu start={done} />);
    fireEvent.click(button(/Check/));
    expect(items()).toEqual(["Quick check", "Extended check", "Spot sweep", "Whole sweep"]);
    fireEvent.click(screen.getByRole("menuitem", { name: /Spot sweep/ }));
    expect(done).toHaveBeenCalledWith("spot");
  });

  it.each([
    [undefined, ["Mend, off", "Renew, off", "Overwrite, off"], /None recorded/],
    ["mend", ["Mend", "Renew, off", "Overwrite, off"], /mend, by phone/],
    ["renew", ["Mend", "Renew", "Overwrite, off"], /renew, by phone/],
    ["overwrite", ["Mend", "Renew", "Overwrite"], /overwrite, by phone/],
  ] as const)("offers the reworks that a release for %s covers", (scope, wanted, says) => {
    const record = vi.fn();
    show(<ReworkMenu release={scope && ({ scope, owner: "phone" } as never)} start={done} record={record} />);
    fireEvent.click(button(/Rework/));
    expect(items()).toEqual(["Release by the owner …", ...wanted]);
    expect(screen.getByText(says)).toBeTruthy();
    expect(screen.queryAllByText("Not released by the owner")).toHaveLength(wanted.filter((w) => w.endsWith("off")).length);
    fireEvent.click(screen.getByRole("menuitem", { name: /Release by/ }));
    expect(record).toHaveBeenCalledOnce();
    expect(done).not.toHaveBeenCalled();
  });
});
