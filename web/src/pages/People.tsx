import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { call, get, type Change, type Me, type Passkey, type Person, type Scope, type SignedIn, type Token, type WelcomeLink } from "../api";
import { exactly, when } from "../format";
import { Choice } from "../parts/Choice";
import { Field, Secret, button } from "../parts/Field";
import { Moment } from "../parts/WatchEditor";
import { addPasskey, brokenOff, canHoldPasskeys } from "../passkeys";

const quiet = "cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink";
const roles = ["viewer", "engineer", "administrator"];

/** People are who may come in, and by which ways: of oneself, and of all for an administrator. */
export function People() {
  useEffect(() => {
    document.title = "People – Woodlark";
  }, []);
  const me = useQuery({ queryKey: ["me"], queryFn: () => get<Me>("/session"), staleTime: 60_000 });
  if (!me.data) return null;
  const all = me.data.role === "administrator";
  return (
    <>
      <h1 className="pt-8 pb-4 text-2xl font-light md:text-3xl">People</h1>
      <p className="text-soft">
        {me.data.way === "machine" ? "You came in by the token of the service's state folder, and so as administrator." : `You are ${me.data.name}, and came in as ${me.data.role}${me.data.scope ? `, for ${me.data.scope}` : ""}.`}
      </p>
      {all && <LetIn />}
      <Tokens me={me.data} all={all} />
      <Sessions all={all} />
      {me.data.person && me.data.way !== "token" && <OwnPassphrase />}
      {me.data.person && me.data.way !== "token" && <OwnPasskeys />}
      {all && <Record />}
    </>
  );
}

function Part({ id, title, children }: { id: string; title: string; children: React.ReactNode }) {
  return (
    <section aria-labelledby={id} className="mt-10 border-t border-line pt-6">
      <h2 id={id} className="text-lg">
        {title}
      </h2>
      {children}
    </section>
  );
}

function Wrong({ error }: { error: Error | null }) {
  return error ? <p role="alert" className="mt-2 border-l-2 border-plum pl-3">{error.message}</p> : null;
}

function LetIn() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["people"], queryFn: () => get<Person[]>("/people") });
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [role, setRole] = useState("viewer");
  const [part, setPart] = useState(everything);
  const [changing, setChanging] = useState("");
  const [link, setLink] = useState<WelcomeLink>();
  const changed = () => client.invalidateQueries({ queryKey: ["people"] });
  const welcome = useMutation({ mutationFn: (who: string) => call<WelcomeLink>("POST", `/people/${encodeURIComponent(who)}/welcome`), onSuccess: setLink });
  const add = useMutation({
    mutationFn: () => call<Person>("POST", "/people", { name, full_name: fullName, role, ...scopeOf(part, role) }),
    onSuccess: (p) => {
      setName("");
      setFullName("");
      setPart(everything);
      void changed();
      welcome.mutate(p.name);
    },
  });
  const alter = useMutation({
    mutationFn: ({ id, ...change }: { id: string; role?: string; scope?: Scope; ended?: boolean }) => call<Person>("PATCH", `/people/${id}`, change),
    onSettled: () => {
      void changed();
      void client.invalidateQueries({ queryKey: ["sessions"] });
      void client.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const people = list.data ?? [];
  return (
    <Part id="let-in" title="Who may come in">
      <p className="text-soft">
        {list.data && people.length === 0 ? "Nobody is let in by name yet. " : ""}A viewer sees; an engineer also measures, and makes watches, boards, notes and links; an administrator also lets in people and agents, and sets the ways by which people are told.
      </p>
      <ul className="pt-2">
        {people.map((p) => (
          <li key={p.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-2">
            <span className={"min-w-28 " + (p.state === "ended" ? "text-soft line-through" : "")}>{p.name}</span>
            <span className="min-w-40 text-soft">{p.full_name}</span>
            {p.state === "ended" ? <span className="text-soft">{p.role}</span> : <Choice needed label={`Role of ${p.name}`} value={p.role} values={roles} onChange={(r) => alter.mutate({ id: p.id, role: r })} />}
            {p.scope && <span className="text-soft">for {[...(p.scope.sites ?? []), ...(p.scope.labels ?? [])].join(", ")}</span>}
            <span className="text-sm text-soft" title={p.last_seen_at ? exactly(p.last_seen_at) : ""}>
              {p.state === "asked" ? "has set no passphrase yet" : p.state === "ended" ? "may not come in" : p.last_seen_at ? `signed in ${when(p.last_seen_at)}` : "never signed in"}
            </span>
            <span className="ml-auto flex gap-4">
              {p.state !== "ended" && p.role !== "administrator" && (
                <button type="button" className={quiet} aria-expanded={changing === p.id} aria-label={`For which part: ${p.name}`} onClick={() => setChanging(changing === p.id ? "" : p.id)}>
                  For which part
                </button>
              )}
              {p.state !== "ended" && (
                <button type="button" className={quiet} aria-label={`${p.state === "asked" ? "A link" : "A link for another passphrase"}: ${p.name}`} onClick={() => welcome.mutate(p.name)}>
                  {p.state === "asked" ? "A link" : "A link for another passphrase"}
                </button>
              )}
              <button type="button" className={quiet} aria-label={`${p.state === "ended" ? "Let in again" : "End"}: ${p.name}`} onClick={() => alter.mutate({ id: p.id, ended: p.state !== "ended" })}>
                {p.state === "ended" ? "Let in again" : "End"}
              </button>
            </span>
            {changing === p.id && <PartForm start={p.scope} done={(scope) => { setChanging(""); if (scope) alter.mutate({ id: p.id, scope }); }} />}
          </li>
        ))}
      </ul>
      <Wrong error={alter.error ?? welcome.error} />
      {link && (
        <p role="status" className="mt-2 border-l-2 border-ochre pl-3">
          <span className="break-all">{location.origin + link.path}</span>
          <span className="block text-sm text-soft">
            For {link.name}, good once, until {when(link.ends_at)}. It is shown this once: copy it now.
          </span>
        </p>
      )}
      <details className="pt-2" open={list.data !== undefined && people.length === 0}>
        <summary className={quiet}>Let somebody in</summary>
        <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
          <Field label="Name to sign in by" value={name} onChange={setName} />
          <Field wide label="Full name" value={fullName} onChange={setFullName} />
          <Choice above needed label="Role" value={role} values={roles} onChange={setRole} />
          {role !== "administrator" && <PartFields part={part} change={setPart} />}
          <button type="submit" className={button} disabled={!name.trim() || add.isPending}>
            Let in, and make a link
          </button>
        </form>
        <Wrong error={add.error} />
      </details>
    </Part>
  );
}

/** Parted is what somebody is let in for, as it is typed: words with commas between. */
interface Parted {
  sites: string;
  labels: string;
}

const everything: Parted = { sites: "", labels: "" };

const words = (text: string) => text.split(",").map((w) => w.trim()).filter(Boolean);
const scopeFrom = (p: Parted): Scope => ({ sites: words(p.sites), labels: words(p.labels) });
const scopeOf = (p: Parted, role: string) => (role !== "administrator" && words(p.sites + "," + p.labels).length > 0 ? { scope: scopeFrom(p) } : {});

function PartFields({ part, change }: { part: Parted; change: (p: Parted) => void }) {
  return (
    <>
      <Field wide label="For these sites only" value={part.sites} onChange={(sites) => change({ ...part, sites })} hint="all" />
      <Field wide label="or agents with these labels" value={part.labels} onChange={(labels) => change({ ...part, labels })} hint="all" />
    </>
  );
}

function PartForm({ start, done }: { start?: Scope; done: (s?: Scope) => void }) {
  const [part, setPart] = useState<Parted>({ sites: (start?.sites ?? []).join(", "), labels: (start?.labels ?? []).join(", ") });
  return (
    <form className="flex w-full flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); done(scopeFrom(part)); }}>
      <PartFields part={part} change={setPart} />
      <button type="submit" className={button}>
        {words(part.sites + "," + part.labels).length > 0 ? "For these only" : "For everything"}
      </button>
      <button type="button" className={quiet + " pb-2"} onClick={() => done()}>
        Leave it
      </button>
    </form>
  );
}

function Tokens({ me, all }: { me: Me; all: boolean }) {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["tokens"], queryFn: () => get<Token[]>("/tokens") });
  const [title, setTitle] = useState("");
  const [of, setOf] = useState("");
  const [role, setRole] = useState("viewer");
  const [until, setUntil] = useState("");
  const [part, setPart] = useState(everything);
  const people = useQuery({ queryKey: ["people"], queryFn: () => get<Person[]>("/people"), enabled: all });
  const changed = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const end = useMutation({ mutationFn: (id: string) => call("DELETE", `/tokens/${id}`), onSuccess: changed });
  const whose = of || (me.person ? me.name : "");
  const add = useMutation({
    mutationFn: () => call<Token>("POST", "/tokens", { title, role, ...scopeOf(part, role), ...(whose ? { person: whose } : {}), ...(until ? { ends_at: new Date(until).toISOString() } : {}) }),
    onSuccess: () => {
      setTitle("");
      void changed();
    },
  });
  const tokens = list.data ?? [];
  const names = (people.data ?? []).filter((p) => p.state !== "ended").map((p) => p.name);
  return (
    <Part id="tokens" title="Tokens of programs">
      <p className="text-soft">{list.data && tokens.length === 0 ? "There is none yet. " : ""}A program calls the service by a token of a person, and may do no more than that person. Only a hash of it is kept.</p>
      <ul className="pt-2">
        {tokens.map((t) => (
          <li key={t.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-2">
            <span className={"min-w-48 " + (t.state === "open" ? "" : "text-soft")}>{t.title}</span>
            <span className="text-soft">
              {all && `${t.name}, `}
              {t.role}
              {t.scope && `, for ${[...(t.scope.sites ?? []), ...(t.scope.labels ?? [])].join(", ")}`}
            </span>
            <span className="text-sm text-soft">{t.state === "open" ? (t.ends_at ? `until ${when(t.ends_at)}` : "without end") : t.state}</span>
            <span className="text-sm text-soft">{t.last_used_at ? `used ${when(t.last_used_at)} from ${t.used_from}` : "never used"}</span>
            {t.state === "open" && (
              <button type="button" className={quiet + " ml-auto"} aria-label={`End it: the token ${t.title}`} onClick={() => end.mutate(t.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
      {(me.person || names.length > 0) && (
        <details className="pt-2">
          <summary className={quiet}>Make a token</summary>
          <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
            <Field wide label="What it is for" value={title} onChange={setTitle} />
            {all && <Choice above needed label="Whose" value={whose} values={names} onChange={setOf} />}
            <Choice above needed label="Role of the token" value={role} values={roles.slice(0, roles.indexOf(me.role) + 1)} onChange={setRole} />
            {role !== "administrator" && <PartFields part={part} change={setPart} />}
            <Moment label="Until" value={until} onChange={setUntil} />
            <button type="submit" className={button} disabled={!title.trim() || !whose || add.isPending}>
              Make the token
            </button>
          </form>
          <Wrong error={add.error} />
          {add.data?.key && (
            <p role="status" className="border-l-2 border-ochre pl-3">
              <code className="break-all">{add.data.key}</code>
              <span className="block text-sm text-soft">It is shown this once: copy it now.</span>
            </p>
          )}
        </details>
      )}
    </Part>
  );
}

function Sessions({ all }: { all: boolean }) {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["sessions"], queryFn: () => get<SignedIn[]>("/sessions"), refetchInterval: 60_000 });
  const end = useMutation({ mutationFn: (id: string) => call("DELETE", `/sessions/${id}`), onSuccess: () => client.invalidateQueries({ queryKey: ["sessions"] }) });
  return (
    <Part id="sessions" title="Sessions of the console">
      <ul className="pt-2">
        {(list.data ?? []).map((s) => (
          <li key={s.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-2">
            <span className="min-w-28">{all ? s.name : s.own ? "this one" : "another"}</span>
            <span className="text-soft" title={s.browser}>
              by {s.way}, from {s.address}
            </span>
            <span className="text-sm text-soft">
              began {when(s.began_at)}, seen {when(s.last_seen_at)}
            </span>
            {s.own ? (
              <span className="ml-auto text-sm text-soft">yours, here</span>
            ) : (
              <button type="button" className={quiet + " ml-auto"} aria-label={`End it: the session of ${s.name} from ${s.address}, begun ${when(s.began_at)}`} onClick={() => end.mutate(s.id)}>
                End it
              </button>
            )}
          </li>
        ))}
      </ul>
      <Wrong error={end.error} />
    </Part>
  );
}

function OwnPassphrase() {
  const [before, setBefore] = useState("");
  const [phrase, setPhrase] = useState("");
  const client = useQueryClient();
  const change = useMutation({
    mutationFn: () => call("PUT", "/passphrase", { before, passphrase: phrase }),
    onSuccess: () => {
      setBefore("");
      setPhrase("");
      void client.invalidateQueries({ queryKey: ["sessions"] });
    },
  });
  return (
    <Part id="passphrase" title="Your passphrase">
      <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); change.mutate(); }}>
        <Secret label="The one before" value={before} onChange={setBefore} />
        <Secret fresh label="The new one, of 10 characters or more" value={phrase} onChange={setPhrase} />
        <button type="submit" className={button} disabled={phrase.length < 10 || !before || change.isPending}>
          Set it
        </button>
      </form>
      <Wrong error={change.error} />
      {change.isSuccess && <p role="status">It is set; your other sessions have ended.</p>}
    </Part>
  );
}

function OwnPasskeys() {
  const client = useQueryClient();
  const list = useQuery({ queryKey: ["passkeys"], queryFn: () => get<Passkey[]>("/passkeys") });
  const [title, setTitle] = useState("");
  const changed = () => client.invalidateQueries({ queryKey: ["passkeys"] });
  const end = useMutation({ mutationFn: (id: string) => call("DELETE", `/passkeys/${id}`), onSuccess: changed });
  const add = useMutation({
    mutationFn: () => addPasskey(title),
    onSuccess: () => {
      setTitle("");
      void changed();
    },
  });
  const passkeys = list.data ?? [];
  return (
    <Part id="passkeys" title="Your passkeys">
      <p className="text-soft">A device of yours holds a key, and lets you in where it knows you: by a finger, a face or its code. Nothing is kept here that could be stolen. A new one-time link ends them.</p>
      <ul className="pt-2">
        {passkeys.map((k) => (
          <li key={k.id} className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line py-2">
            <span className="min-w-48">{k.title}</span>
            <span className="text-soft">for {k.host}</span>
            <span className="text-sm text-soft">{k.last_used_at ? `used ${when(k.last_used_at)}` : "never used"}</span>
            <button type="button" className={quiet + " ml-auto"} aria-label={`End it: the passkey ${k.title}`} onClick={() => end.mutate(k.id)}>
              End it
            </button>
          </li>
        ))}
      </ul>
      {canHoldPasskeys() ? (
        <form className="flex flex-wrap items-end gap-x-6 gap-y-4 py-3" onSubmit={(e) => { e.preventDefault(); add.mutate(); }}>
          <Field wide label="The device, as you know it" value={title} onChange={setTitle} />
          <button type="submit" className={button} disabled={!title.trim() || add.isPending}>
            Add a passkey
          </button>
        </form>
      ) : (
        <p className="py-2 text-sm text-soft">A passkey is for a name: open the console by its host name, over TLS, or as localhost on its own machine, in a browser that has them.</p>
      )}
      <Wrong error={brokenOff(add.error) ? null : add.error} />
    </Part>
  );
}

function Record() {
  const [who, setWho] = useState("");
  const query = who.trim() ? `?limit=50&who=${encodeURIComponent(who.trim())}` : "?limit=50";
  const list = useQuery({ queryKey: ["changes", query], queryFn: () => get<Change[]>("/changes" + query) });
  return (
    <Part id="record" title="Who changed what">
      <div className="flex flex-wrap items-end gap-x-6 gap-y-3 pt-2">
        <Field label="Of whom" value={who} onChange={setWho} hint="everybody" />
        <a className={quiet} href={"/api/v1/changes?limit=1000" + (who.trim() ? `&who=${encodeURIComponent(who.trim())}` : "")} download="changes.json">
          Export the newest 1,000
        </a>
      </div>
      <ul className="pt-3">
        {(list.data ?? []).map((c) => (
          <li key={c.id} className="flex flex-wrap gap-x-6 gap-y-1 border-t border-line py-1.5 text-sm">
            <time dateTime={c.at} className="figures min-w-32 text-soft" title={exactly(c.at)}>
              {when(c.at)}
            </time>
            <span className="min-w-48">{c.who}</span>
            <span className="min-w-40 text-soft">{c.what.replaceAll("_", " ")}</span>
            <span className="break-all">{c.name}</span>
          </li>
        ))}
      </ul>
    </Part>
  );
}
