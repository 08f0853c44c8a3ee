import { useEffect, useState, type FormEvent } from "react";
import { useTheme } from "../theme";
import { call } from "../api";

export function SignIn() {
  useTheme();
  const [token, setToken] = useState("");
  const [error, setError] = useState("");
  useEffect(() => {
    document.title = "Sign in – Woodlark";
  }, []);
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setError("");
    try {
      await call("POST", "/session", { token });
      const to = new URLSearchParams(location.search).get("to") ?? "/";
      location.assign(to.startsWith("/") && !to.startsWith("//") ? to : "/");
    } catch (problem) {
      setError((problem as Error).message);
    }
  };
  return (
    <main className="mx-auto flex min-h-screen max-w-md flex-col justify-center px-6">
      <h1 className="flex items-center gap-3 text-2xl font-semibold tracking-tight">
        <img src="/mark.svg" alt="" className="size-8 dark:brightness-150" />
        Woodlark
      </h1>
      <form onSubmit={(e) => void submit(e)} className="mt-8 border-t border-line pt-6">
        <label htmlFor="token" className="block">
          Administrator's token
        </label>
        <input id="token" type="password" autoComplete="current-password" autoFocus required value={token} onChange={(e) => setToken(e.target.value)}
          aria-describedby={error ? "wrong" : "where"} aria-invalid={error !== ""}
          className="mt-2 w-full border-b border-soft bg-transparent py-2 font-mono outline-offset-4" />
        <p id="where" className="mt-2 text-sm text-soft">
          It is in the file <code>token</code> of the service's state folder; the demo prints it.
        </p>
        {error && (
          <p id="wrong" role="alert" className="mt-3 text-plum">
            {error}
          </p>
        )}
        <button type="submit" className="mt-6 cursor-pointer border border-ink px-5 py-2 hover:bg-ink hover:text-paper">
          Sign in
        </button>
      </form>
    </main>
  );
}
