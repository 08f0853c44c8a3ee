import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { get, post, remove, type Channel, type ChannelType, type Message, type Objective, type Rule } from "../api";
import { exactly, when } from "../format";
import { valuesOf } from "../kinds/values";
import { emptyRule, isReport, ruleOf, says, tells, type RuleForm } from "../ruleForm";
import { Choice } from "./Choice";
import { Field, button } from "./Field";
import { OneField } from "./KindForm";
import { May } from "../may";

const quiet = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";

/** Notifications are who is told of what, and by which way; and what was told. */
export function Notifications() {
  const channels = useQuery({ queryKey: ["channels"], queryFn: () => get<Channel[]>("/channels") });
  const rules = useQuery({ queryKey: ["rules"], queryFn: () => get<Rule[]>("/rules") });
  const some = channels.data ?? [];
  return (
    <section aria-labelledby="notifications">
      <h2 id="notifications" className="text-lg">
        Notifications
      </h2>
      <p className="text-soft">
        {some.length === 0 ? "Nobody is told of anything yet. Add a channel first, and then a rule that leads to it." : "A channel is a way by which people are told, a rule says who is told of what. What one segment explains is one message."}
      </p>
      <Channels list={some} />
      {some.length > 0 && <Rules list={rules.data ?? []} channels={some} />}
      <Messages />
    </section>
  );
}

function Said({ error, good }: { error: Error | null; good?: string }) {
  if (error) return <p role="alert" className="border-l-2 border-plum pl-3">{error.message}</p>;
  return good ? <p role="status" className="border-l-2 border-line pl-3 text-soft">{good}</p> : null;
}

function Channels({ list }: { list: Channel[] }) {
  const client = useQueryClient();
  const types = useQuery({ queryKey: ["channel-types"], queryFn: () => get<ChannelType[]>("/channel-types") });
  const [name, setName] = useState("");
  const [by, setBy] = useState("webhook");
  const [form, setForm] = useState<Record<string, string>>({});
  const type = types.data?.find((t) => t.name === by);
  const changed = () => client.invalidateQueries({ queryKey: ["channels"] });
  const add = useMutation({
    mutationFn: () => post<Channel, "/api/v1/channels">("/api/v1/channels", { name, type: by, settings: valuesOf(type?.fields ?? [], form) }),
    onSuccess: async () => {
      setName("");
      setForm({});
      await changed();
    },
  });
  const test = useMutation({ mutationFn: (channel: string) => post<void, "/api/v1/channels/{channel}/test">("/api/v1/channels/{channel}/test", undefined, { channel }).then(() => channel) });
  const drop = useMutation({ mutationFn: (channel: string) => remove("/api/v1/channels/{channel}", { channel }), onSuccess: changed });
  return (
    <>
      <ul className="pt-2">
        {list.map((c) => (
          <li key={c.id} className="flex flex-wrap gap-x-6 gap-y-1 border-t border-line py-2">
            <span className="min-w-40">{c.name}</span>
            <span className="text-soft">
              by {c.type} {String(c.settings["url"] ?? c.settings["server"] ?? c.settings["address"] ?? "")}
            </span>
            <span className="ml-auto flex gap-4">
              <May call="test-channel"><button type="button" className={quiet} aria-label={`Test channel ${c.name}`} onClick={() => test.mutate(c.id)}>
                Test
              </button></May>
              <May call="remove-channel"><button type="button" className={quiet} aria-label={`Remove channel ${c.name}`} onClick={() => drop.mutate(c.id)}>
                Remove
              </button></May>
            </span>
          </li>
        ))}
      </ul>
      <Said error={test.error ?? drop.error} good={test.isSuccess ? "The receiver has taken a test message." : undefined} />
      <May call="add-channel"><details className="pt-2" open={list.length === 0}>
        <summary className={quiet}>Add a channel</summary>
        <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
          <Field label="Name of the channel" value={name} onChange={setName} />
          <Choice above needed label="By" value={by} values={(types.data ?? []).map((t) => t.name)} onChange={(v) => { setBy(v); setForm({}); }} />
          {(type?.fields ?? []).map((f) => (
            <OneField key={f.name} field={f} value={form[f.name] ?? f.usual} onChange={(v) => setForm({ ...form, [f.name]: v })} />
          ))}
          <button type="submit" className={button} disabled={!name.trim() || add.isPending}>
            Add the channel
          </button>
        </form>
        <Said error={add.error} />
      </details></May>
    </>
  );
}

function Rules({ list, channels }: { list: Rule[]; channels: Channel[] }) {
  const client = useQueryClient();
  const objectives = useQuery({ queryKey: ["objectives"], queryFn: () => get<Objective[]>("/objectives") });
  const [form, setForm] = useState<RuleForm>(emptyRule);
  const set = (some: Partial<RuleForm>) => setForm({ ...form, ...some });
  const changed = () => client.invalidateQueries({ queryKey: ["rules"] });
  const spec = ruleOf({ ...form, channel: form.channel || channels[0]!.name });
  const add = useMutation({
    mutationFn: () => post<Rule, "/api/v1/rules">("/api/v1/rules", spec),
    onSuccess: async () => {
      setForm(emptyRule);
      await changed();
    },
  });
  const drop = useMutation({ mutationFn: (rule: string) => remove("/api/v1/rules/{rule}", { rule }), onSuccess: changed });
  return (
    <>
      <h3 className="pt-5 text-base">Rules</h3>
      {list.length === 0 && <p className="text-soft">No rule leads to a channel yet: nobody is told of anything.</p>}
      <ul>
        {list.map((r) => (
          <li key={r.id} className="flex flex-wrap gap-x-6 gap-y-1 border-t border-line py-2">
            <span className="min-w-40">{r.name}</span>
            <span className="text-soft">
              to {r.channel}: {says(r)}
            </span>
            <May call="remove-rule"><button type="button" className={"ml-auto " + quiet} aria-label={`Remove rule ${r.name}`} onClick={() => drop.mutate(r.id)}>
              Remove
            </button></May>
          </li>
        ))}
      </ul>
      <May call="add-rule"><details className="pt-2" open={list.length === 0}>
        <summary className={quiet}>Add a rule</summary>
        <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
          <Field label="Name of the rule" value={form.name} onChange={(name) => set({ name })} />
          <Choice above needed label="To" value={spec.channel} values={channels.map((c) => c.name)} onChange={(channel) => set({ channel })} />
          <Choice above needed label="Tells" value={form.tells} values={tells} onChange={(v) => set({ tells: v as RuleForm["tells"] })} />
          <Field label="Sites" value={form.sites} onChange={(sites) => set({ sites })} hint="all" />
          <Field label="Agents" value={form.agents} onChange={(agents) => set({ agents })} hint="all" />
          <Field label="Targets" value={form.targets} onChange={(targets) => set({ targets })} hint="all" />
          <Field label="Tags" value={form.tags} onChange={(tags) => set({ tags })} hint="all" />
          <Field label="Labels of agents" value={form.labels} onChange={(labels) => set({ labels })} hint="all" />
          {!isReport(form.tells) && <Field label="Least severity" value={form.severity} onChange={(severity) => set({ severity })} hint="any" title="How many times more than what is worth caring about it must be worse, such as 3; what is lost always is" wrong={form.severity.trim() && !(Number(form.severity.replace(",", ".")) > 0) ? "a number above 0" : undefined} />}
          {isReport(form.tells) ? (
            <>
              <Field label="At" value={form.at} onChange={(at) => set({ at })} hint="07:00" />
              <Choice above none="none" label="Held against" value={form.objective} values={(objectives.data ?? []).map((o) => o.name)} onChange={(objective) => set({ objective })} />
            </>
          ) : (
            <>
              <Choice above label="Of paths that are" none="degraded or lost" value={form.state} values={["degraded", "lost"]} onChange={(state) => set({ state })} />
              <Field label="In the hours" value={form.hours} onChange={(hours) => set({ hours })} hint="always" title="Such as mon-fri 08:00-18:00; what comes at others is held back, and told at their end" />
              <Choice above label="On days off" none="as ever" value={form.holidays} values={["quiet", "only"]} onChange={(holidays) => set({ holidays })} />
              <Field label="Again after" value={form.remind} onChange={(remind) => set({ remind })} hint="never" title="Such as 4h: told again while it goes on" />
            </>
          )}
          <Field label="Zone" value={form.zone} onChange={(zone) => set({ zone })} hint="Europe/Dublin" title="Whose hours" />
          <button type="submit" className={button} disabled={!form.name.trim() || add.isPending}>
            Add the rule
          </button>
        </form>
        <Said error={add.error ?? drop.error} />
      </details></May>
    </>
  );
}

function Messages() {
  const list = useQuery({ queryKey: ["messages"], queryFn: () => get<Message[]>("/messages?limit=50"), refetchInterval: 15_000 });
  if (!list.data || list.data.length === 0) return null;
  return (
    <>
      <h3 className="pt-5 text-base">Told lately</h3>
      <ul>
        {list.data.map((m) => (
          <li key={m.id} className="flex flex-wrap gap-x-6 gap-y-0.5 border-t border-line py-1.5">
            <span className="figures text-soft" title={exactly(m.at)}>{when(m.at)}</span>
            <span className="min-w-0 flex-1 basis-80">{m.title}</span>
            <span className={m.state === "gave up" ? "text-plum" : "text-soft"}>
              {m.channel}: {m.state}
              {m.error && `, ${m.error}`}
            </span>
          </li>
        ))}
      </ul>
    </>
  );
}
