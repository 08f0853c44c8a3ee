// Does with a client from the OpenAPI document what its readers would: list paths, ping,
// follow that, add a watch, read a baseline, get the report.
import createClient from "openapi-fetch";
import type { paths } from "./generated/schema.js";

const [, , base = "", token = "", path = ""] = process.argv;
const client = createClient<paths>({ baseUrl: base, headers: { Authorization: "Bearer " + token } });

function need<T>(what: string, value: T | undefined | null, error?: unknown): T {
  if (value == null) throw new Error(`no ${what}: ${JSON.stringify(error)}`);
  return value;
}

const listed = await client.GET("/api/v1/paths", { params: { query: { state: ["steady", "unmeasured", "degraded", "lost"] } }, querySerializer: { array: { style: "form", explode: false } } });
if ((need("paths", listed.data, listed.error).paths ?? []).length === 0) throw new Error("no path");
const started = await client.POST("/api/v1/runs", { body: { from: "local", to: ["127.0.0.1"], probes: 5, interval: "20ms" } });
const id = need("run", need("runs", started.data, started.error)[0]).id;
for (;;) {
  const run = await client.GET("/api/v1/runs/{id}", { params: { path: { id } } });
  const now = need("run", run.data, run.error);
  if (now.outcome === "done") {
    if (need("reading", now.reading).answered !== 5) throw new Error("answers: " + now.reading?.answered);
    break;
  }
  await new Promise((r) => setTimeout(r, 50));
}
const added = await client.POST("/api/v1/watches", { body: { name: "by a client in TypeScript", from: ["local"], to: ["127.0.0.3"] } });
if (need("watch", added.data, added.error).paths !== 1) throw new Error("no path of the watch");
const baseline = await client.GET("/api/v1/paths/{id}/baseline", { params: { path: { id: path } } });
if (!baseline.data && baseline.response.status !== 404) throw new Error("neither a baseline nor none");
const report = await client.GET("/api/v1/degraded", {});
if (!need("report", report.data, report.error).summary) throw new Error("no summary");
console.log("done");
