import { describe, expect, it } from "vitest";
import type { Agent, Kind, Watch } from "./api";
import { chips, cost, formOf, fresh, list, rhythm, short, specOf, toggled } from "./watchForm";

const kind = { name: "ping", fields: [{ name: "probes", type: "int", usual: "20" }, { name: "via", type: "via", usual: "icmp" }, { name: "exclude", type: "list", usual: "" }] } as unknown as Kind;

describe("the form of a watch", () => {
  it("says only what is other than usual", () => {
    expect(specOf({ ...fresh("ping", "Europe/Dublin"), name: " one ", from: "quay, site:Holm", to: "holm.example\n192.0.2.1, holm.example" }, kind)).toEqual({ name: "one", kind: "ping", from: ["quay", "site:Holm"], to: ["holm.example", "192.0.2.1"] });
  });
  it("says when, by what was chosen", () => {
    const form = { ...fresh("ping", "Europe/Dublin"), name: "a", from: "quay", to: "b" };
    expect(specOf({ ...form, when: "repeat", repeat: "10m", poisson: true }, kind)).toMatchObject({ repeat: "10m", spread: "poisson" });
    expect(specOf({ ...form, when: "cron" }, kind)).toMatchObject({ cron: "0 9-17 * * MON-FRI", zone: "Europe/Dublin" });
    expect(specOf({ ...form, when: "cron" }, kind)).not.toHaveProperty("repeat");
    expect(specOf({ ...form, hours: "mon-fri 08:00-18:00" }, kind)).toMatchObject({ hours: "mon-fri 08:00-18:00", zone: "Europe/Dublin" });
    expect(specOf(form, kind)).not.toHaveProperty("zone");
    expect(specOf({ ...form, start: "2026-12-01T08:00" }, kind).start_at).toBe(new Date("2026-12-01T08:00").toISOString());
  });
  it("is the same again for a watch that is there", () => {
    const w = { name: "a", kind: "ping", from: ["quay"], to: ["b", "c"], and_back: true, cron: "30 2 * * *", zone: "UTC", hours: "01:00-05:00", tags: ["x"], paused: true, probes: 7, via: "icmp", start_at: "2026-12-01T08:00:00Z" } as unknown as Watch;
    expect(specOf(formOf(w, kind), kind)).toEqual({ name: "a", kind: "ping", from: ["quay"], to: ["b", "c"], and_back: true, cron: "30 2 * * *", zone: "UTC", hours: "01:00-05:00", tags: ["x"], paused: true, probes: 7, start_at: "2026-12-01T08:00:00.000Z" });
  });
  it("keeps what it has no field for, and what is measured beside", () => {
    const trace = { name: "trace", fields: [{ name: "probes", type: "int", usual: "3" }] } as unknown as Kind;
    const w = { name: "a", kind: "ping", from: ["quay"], to: ["b"], repeat: "5m", suspicion_packets_per_day_most: -1, bytes_per_day_most: 7, also: [{ kind: "trace", cron: "0 3 * * *", zone: "UTC", probes: 9 }, { kind: "ping", repeat: "1h" }] } as unknown as Watch;
    const { paths: _p, ...spec } = { ...w, paths: undefined };
    expect(specOf(formOf(w, kind, [kind, trace]), kind, [kind, trace])).toEqual(spec);
  });
  it("offers agents, and what several have in common", () => {
    const agents = [{ name: "quay", site: "North" }, { name: "holm", site: "Holm", labels: "edge, radio" }, { name: "pier", site: "Holm", labels: "edge" }] as Agent[];
    expect(chips(agents)).toEqual(["quay", "holm", "pier", "site:Holm", "label:edge", "label:radio"]);
    expect(toggled("quay", "holm")).toBe("quay, holm");
    expect(toggled("quay, holm", "quay")).toBe("holm");
    expect(list(" a b ,\n,c")).toEqual(["a b", "c"]);
  });
  it("says what it costs, and when it measures", () => {
    expect(cost({ paths: 1, probes_per_day: 86400, bytes_per_day: 14_500_000, rows_per_day: 1440 } as Watch)).toBe("1 path, 86,400 packets a day, 14.5 MB a day, 1,440 rows a day kept");
    expect(cost({ paths: 2 } as Watch)).toBe("2 paths");
    expect(rhythm({ repeat: "15m0s" } as Watch)).toBe("each 15m");
    expect(rhythm({ hours: "08:00-18:00" } as Watch)).toBe("without a pause, 08:00-18:00 UTC");
    expect(rhythm({ cron: "0 3 * * *", zone: "Europe/Dublin" } as Watch)).toBe("at 0 3 * * * Europe/Dublin");
    expect([short("1h0m0s"), short("1m30s"), short("10s")]).toEqual(["1h", "1m30s", "10s"]);
  });
});
