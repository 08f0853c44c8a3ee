import { expect, test } from "vitest";
import { blank, bytes, formOf, incomplete, planOf, service, unshown } from "./planForm";

test("a form says a plan, and leaves out what says nothing", () => {
  const f = { ...blank(), name: "Gannet fibre", rate: "100M", sizes: "64, 1518", lasts: { throughput: "10s", latency: "10s", frame_loss: "10s" } };
  f.parts = { ...f.parts, back_to_back: false };
  f.limits = { ...f.limits, throughput: "95M", burst_frames: "1,200" };
  expect(planOf(f)).toEqual({
    plan: "Gannet fibre",
    by_size: { sizes: [64, 1518], most: "100M", throughput: { for: "10s" }, latency: { for: "10s" }, frame_loss: { for: "10s" }, back_to_back: { skip: true }, limits: { throughput: "95M", burst_frames: 1200 } },
  });
});

test("services have names, rates and limits", () => {
  const f = { ...blank(), bySize: false, byService: true, services: [{ ...service("calls"), cir: "8M", like: "mef-metro-high", availability: "99.9%" }], performs: "15m" };
  expect(planOf(f)).toEqual({ by_service: { services: [{ service: "calls", cir: "8M", limits_like: "mef-metro-high", limits: { availability: "99.9%" } }], performance: { for: "15m" } } });
});

test("a plan comes back from its form", () => {
  for (const plan of [
    { plan: "a", direction: "each", line: "1G", by_size: { most: "95%", limits: { loss: "0.1%" } }, about: { order: "SL-1" } },
    { over: "ethernet", ethernet: { interface: "eth1", to: "02:00:5e:10:00:07", tags: [{ vlan: 200, priority: 3, type: "802.1ad" }, { vlan: 100, drop_eligible: true }], mpls_labels: [16, 17] }, by_size: { most: "1G" }, first_look: { skip: true }, host_check: { for: "2s" } },
    { mtu: 9000, family: 6, by_size: { most: "1G", least: "1M", reached: "0.2%", throughput: { for: "1m", trials: 2, loss: "0.01%" }, latency: { trials: 20, at: "90%" }, frame_loss: { step: "5%" }, back_to_back: { trials: 50, longest: "1s" } } },
    { by_service: { services: [{ service: "x", cir: "8M", ebs_bytes: 9000, margin: "2%", colours: { green: "AF31", yellow: "AF32" }, source: "192.0.2.7", to: "gannet.example" }], configuration: { excess: true, policing: false } } },
    { ends: "returned", by_service: { services: [{ service: "x", cir: "there 8M back 1M", dscp: "EF" }], configuration: { steps: ["50%", "100%"] } } },
  ]) {
    expect(planOf(formOf(plan))).toEqual(plan);
    expect(unshown(plan)).toEqual([]);
  }
});

test("what the form has no field for is named", () => {
  expect(unshown({ by_size: { most: "1M", colour: "plum" }, ethernet: { interface: "eth1", tags: [{ vlan: 5, shade: 2 }] } })).toEqual(["by_size.colour", "ethernet.interface", "ethernet.tags[0].shade"]);
});

test("what a form lacks is said before the service is asked", () => {
  expect(incomplete(blank())).toContain("up to which rate");
  expect(incomplete({ ...blank(), rate: "1M" })).toBe("");
  expect(incomplete({ ...blank(), bySize: false })).toContain("Choose");
  expect(incomplete({ ...blank(), bySize: false, byService: true })).toContain("a name");
});

test("amounts of data", () => {
  expect(bytes(14_000_000_000)).toBe("14.0 GB");
  expect(bytes(53_800_000)).toBe("53.8 MB");
});
