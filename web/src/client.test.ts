import { QueryObserver } from "@tanstack/react-query";
import { afterEach, beforeEach, describe, expect, it } from "vitest";
import { Client } from "./client";

/** answering is a query whose answers are given by hand, one after the other. */
function answering(client: Client) {
  const asked: ((answer: string) => void)[] = [];
  const observer = new QueryObserver(client, { queryKey: ["notes"], queryFn: () => new Promise<string>((answer) => asked.push(answer)) });
  return { asked, observer, end: observer.subscribe(() => {}) };
}

describe("what changes while it is asked for", () => {
  let client: Client;
  let query: ReturnType<typeof answering>;
  beforeEach(() => {
    client = new Client();
    query = answering(client);
  });
  afterEach(() => query.end());

  it("is asked anew after its first answer, which may be of before", async () => {
    expect(query.asked).toHaveLength(1);
    const changed = client.invalidateQueries({ queryKey: ["notes"] });
    query.asked[0]!("none");
    await expect.poll(() => query.asked.length).toBe(2);
    query.asked[1]!("one");
    await changed;
    expect(query.observer.getCurrentResult().data).toBe("one");
  });

  it("is asked anew at once when an answer is there already, and only once", async () => {
    query.asked[0]!("none");
    await expect.poll(() => query.observer.getCurrentResult().data).toBe("none");
    const changed = client.invalidateQueries({ queryKey: ["notes"] });
    expect(query.asked).toHaveLength(2);
    query.asked[1]!("one");
    await changed;
    expect(query.observer.getCurrentResult().data).toBe("one");
    expect(query.asked).toHaveLength(2);
  });
});
