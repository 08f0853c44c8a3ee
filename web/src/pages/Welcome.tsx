import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call } from "../api";
import { Field, Secret, button } from "../parts/Field";
import { Door } from "./SignIn";

/** Welcome is where a one-time link leads: who has it sets a passphrase, and is in. */
export function Welcome() {
  const [secret] = useState(() => decodeURIComponent(location.hash.slice(1)));
  const look = useQuery({ queryKey: ["welcome", secret], queryFn: () => call<{ name: string; first: boolean }>("POST", "/welcome/look", { secret }), retry: false, staleTime: Infinity });
  const [name, setName] = useState("");
  const [fullName, setFullName] = useState("");
  const [phrase, setPhrase] = useState("");
  const [again, setAgain] = useState("");
  const accept = useMutation({
    mutationFn: () => call("POST", "/welcome", { secret, passphrase: phrase, ...(look.data?.first ? { name, full_name: fullName } : {}) }),
    onSuccess: () => location.replace("/"),
  });
  const differ = again !== "" && again !== phrase;
  return (
    <Door title="Welcome">
      <div className="mt-8 border-t border-line pt-6">
        {look.error && <p role="alert">{look.error.message}</p>}
        {look.data && (
          <form className="grid gap-5" onSubmit={(e) => { e.preventDefault(); accept.mutate(); }}>
            <p>
              {look.data.first
                ? "Nobody is let in by name yet. Who comes in by this link is the first administrator."
                : `Welcome, ${look.data.name}. Set the passphrase that you sign in with from now on.`}
            </p>
            {look.data.first && (
              <>
                <Field label="Name to sign in by" value={name} onChange={setName} hint="a to z, 0 to 9, . _ @ -" wide />
                <Field label="Full name" value={fullName} onChange={setFullName} wide />
              </>
            )}
            <input type="text" className="hidden" autoComplete="username" readOnly value={look.data.first ? name : look.data.name} aria-hidden="true" tabIndex={-1} />
            <Secret fresh label="Passphrase, of 10 characters or more" value={phrase} onChange={setPhrase} />
            <Secret fresh label="The same again" value={again} onChange={setAgain} />
            {differ && <p className="text-sm text-plum">The two are not the same.</p>}
            {accept.error && <p role="alert" className="text-plum">{accept.error.message}</p>}
            <button type="submit" className={button + " justify-self-start"} disabled={phrase.length < 10 || again !== phrase || accept.isPending}>
              Set it, and sign in
            </button>
          </form>
        )}
      </div>
    </Door>
  );
}
