import { useEffect, useState, type FormEvent } from "react";
import { useTheme } from "../theme";
import { call, type WaysIn } from "../api";
import { brokenOff, canHoldPasskeys, signInByPasskey } from "../passkeys";

const line = "mt-2 w-full border-b border-soft bg-transparent py-2 outline-offset-4";

/** Door is the frame of the pages by which people come in. */
export function Door({ children, title }: { children: React.ReactNode; title: string }) {
  useTheme();
  useEffect(() => {
    document.title = `${title} – Woodlark`;
  }, [title]);
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center px-6">
      <h1 className="flex items-center gap-3 text-2xl font-semibold tracking-tight">
        <img src="/mark.svg" alt="" className="size-8 dark:brightness-150" />
        Woodlark
      </h1>
      {children}
    </main>
  );
}

/** SignIn lets people in by name and passphrase, or by the token that is kept on the service's machine. */
export function SignIn() {
  const [byToken, setByToken] = useState(() => new URLSearchParams(location.search).get("by") === "token");
  const [name, setName] = useState("");
  const [secret, setSecret] = useState("");
  const [error, setError] = useState("");
  const [ways, setWays] = useState<WaysIn>({});
  useEffect(() => {
    call<WaysIn>("GET", "/session/ways").then(setWays, () => undefined); // by passphrase it goes all the same
  }, []);
  const enter = async (by: () => Promise<unknown>) => {
    setError("");
    try {
      await by();
      const to = new URLSearchParams(location.search).get("to") ?? "/";
      location.assign(to.startsWith("/") && !to.startsWith("//") ? to : "/");
    } catch (problem) {
      if (!brokenOff(problem)) setError((problem as Error).message);
    }
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    return enter(() => call("POST", "/session", byToken ? { token: secret } : { name, passphrase: secret }));
  };
  const other = () => {
    setByToken(!byToken);
    setSecret("");
    setError("");
  };
  return (
    <Door title="Sign in">
      <form onSubmit={(e) => void submit(e)} className="mt-8 border-t border-line pt-6">
        {!byToken && (
          <>
            <label htmlFor="name" className="block">
              Name
            </label>
            <input id="name" type="text" autoComplete="username" autoCapitalize="none" spellCheck={false} autoFocus required value={name} onChange={(e) => setName(e.target.value)} className={line + " mb-5"} />
          </>
        )}
        <label htmlFor={byToken ? "token" : "passphrase"} className="block">
          {byToken ? "Administrator's token" : "Passphrase"}
        </label>
        <input key={byToken ? "token" : "phrase"} id={byToken ? "token" : "passphrase"} type="password" autoComplete="current-password" autoFocus={byToken} required value={secret} onChange={(e) => setSecret(e.target.value)}
          aria-describedby={error ? "wrong" : byToken ? "where" : undefined} aria-invalid={error !== ""} className={line + (byToken ? " font-mono" : "")} />
        {byToken && (
          <p id="where" className="mt-2 text-sm text-soft">
            It is in the file <code>token</code> of the service's state folder; the demo prints it.
          </p>
        )}
        {error && (
          <p id="wrong" role="alert" className="mt-3 text-plum">
            {error}
          </p>
        )}
        <div className="mt-6 flex flex-wrap items-baseline gap-x-6 gap-y-3">
          <button type="submit" className="cursor-pointer border border-ink px-5 py-2 hover:bg-ink hover:text-paper">
            Sign in
          </button>
          <button type="button" onClick={other} className="cursor-pointer text-sm text-soft underline underline-offset-4 hover:text-ink">
            {byToken ? "By name and passphrase" : "With the administrator's token"}
          </button>
        </div>
      </form>
      {(canHoldPasskeys() || ways.elsewhere) && (
        <div className="mt-6 flex flex-wrap gap-x-6 gap-y-3 border-t border-line pt-6">
          {canHoldPasskeys() && (
            <button type="button" className="cursor-pointer border border-line px-5 py-2 hover:border-ink" onClick={() => void enter(signInByPasskey)}>
              Sign in by a passkey
            </button>
          )}
          {ways.elsewhere && <a href={`/sign-in/elsewhere?to=${encodeURIComponent(new URLSearchParams(location.search).get("to") ?? "/")}`} className="inline-block border border-line px-5 py-2 hover:border-ink">
            Sign in with {ways.elsewhere}
          </a>}
        </div>
      )}
    </Door>
  );
}
