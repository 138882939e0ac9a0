import { act, cleanup, renderHook, waitFor } from "@testing-library/react";
import { afterEach, describe, expect, it } from "vitest";
import { freshCache, playService, within } from "../testing/played";
import { useAccount } from "./account";
import { proveBy } from "./client";

afterEach(() => {
  cleanup();
  proveBy(undefined);
});

const again = { status: 403, body: { type: "urn:hylostat:say-again-who-you-are", title: "", detail: "say again", status: 403 } };

/** Demands a second person of a shop that wants to know first who asks. */
async function demanded(prover: (() => Promise<boolean>) | undefined) {
  let refusals = 1;
  const asked = playService(() => (refusals-- > 0 ? again : { body: {} }));
  proveBy(prover);
  const { result } = renderHook(() => useAccount(), { wrapper: within(freshCache()) });
  act(() => result.current.demand.mutate({ second_factor: false, second_person: true }));
  await waitFor(() => expect(result.current.demand.isPending).toBe(false));
  return { asked: asked.filter((a) => a.method === "PUT"), demand: result.current.demand };
}

describe("what is hard to undo", () => {
  it("is sent once more when its sender has said who they are", async () => {
    const { asked, demand } = await demanded(async () => true);
    expect(asked.map((a) => a.body)).toEqual(Array(2).fill({ second_factor: false, second_person: true }));
    expect(demand.isSuccess).toBe(true);
  });

  it("is not, when they did not", async () => {
    const { asked, demand } = await demanded(async () => false);
    expect(asked).toHaveLength(1);
    expect(demand.error?.message).toBe("Say again");
  });

  it("is refused where nobody can be asked", async () => {
    const { asked, demand } = await demanded(undefined);
    expect(asked).toHaveLength(1);
    expect(demand.isError).toBe(true);
  });
});
