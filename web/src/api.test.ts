import { afterEach, describe, expect, it, vi } from "vitest";
import { Problem, call, post, remove } from "./api";

afterEach(() => vi.unstubAllGlobals());

const answering = (status: number, body: unknown) => {
  const asked = vi.fn(async () => new Response(status === 204 ? null : JSON.stringify(body), { status }));
  vi.stubGlobal("fetch", asked);
  return asked;
};

describe("calls of the service", () => {
  it("fill in the parts of a path", async () => {
    const asked = answering(204, null);
    await remove("/api/v1/watches/{watch}", { watch: "a b/c" });
    expect(asked).toHaveBeenCalledWith("/api/v1/watches/a%20b%2Fc", expect.objectContaining({ method: "DELETE" }));
  });
  it("send what they are given", async () => {
    const asked = answering(202, []);
    expect(await post("/api/v1/runs", { from: "quay", to: ["holm"], probes: 5 })).toEqual([]);
    expect(asked).toHaveBeenCalledWith("/api/v1/runs", expect.objectContaining({ method: "POST", body: '{"from":"quay","to":["holm"],"probes":5}' }));
  });
  it("do not compile with a body that would not be taken", () => {
    answering(202, []);
    // @ts-expect-error a run has no such field
    void post("/api/v1/runs", { from: "quay", to: ["holm"], gulls: 5 });
    // @ts-expect-error the targets are a list
    void post("/api/v1/runs", { from: "quay", to: "holm" });
    // @ts-expect-error there is nothing to be made there
    void post("/api/v1/gulls", {});
  });
  it("tell what the service explains", async () => {
    answering(422, { detail: "there is no agent" });
    await expect(call("POST", "/runs", {})).rejects.toEqual(new Problem(422, "there is no agent"));
    vi.stubGlobal("fetch", async () => {
      throw new TypeError("gone");
    });
    await expect(call("GET", "/runs")).rejects.toMatchObject({ status: 0 });
  });
});
