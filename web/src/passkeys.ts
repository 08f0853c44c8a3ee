import { call, type Asked } from "./api";

// The forms of requests as JSON are newer than the rest of Web Authentication.
type Forms = {
  parseCreationOptionsFromJSON?: (options: unknown) => PublicKeyCredentialCreationOptions;
  parseRequestOptionsFromJSON?: (options: unknown) => PublicKeyCredentialRequestOptions;
};
const forms = (): Forms => (typeof PublicKeyCredential === "undefined" ? {} : (PublicKeyCredential as unknown as Forms));

/** Whether this browser can hold passkeys for this address: one of a name, reached safely. */
export function canHoldPasskeys(): boolean {
  const byAddress = /^(\d+\.){3}\d+$|^\[/.test(location.hostname);
  return window.isSecureContext && !byAddress && typeof forms().parseRequestOptionsFromJSON === "function";
}

const answerOf = (credential: Credential | null): unknown => {
  if (!credential) throw new Error("The device gave no answer.");
  return (credential as unknown as { toJSON: () => unknown }).toJSON();
};

/** Whether somebody broke it off, or their device has nothing to answer with: no fault to be told of. */
export const brokenOff = (e: unknown): boolean => e instanceof DOMException && (e.name === "NotAllowedError" || e.name === "AbortError");

/** Has a device make a passkey for who is signed in. */
export async function addPasskey(title: string): Promise<void> {
  const asked = await call<Asked>("POST", "/passkeys/begin");
  const credential = await navigator.credentials.create({ publicKey: forms().parseCreationOptionsFromJSON!(asked.options) });
  await call("POST", "/passkeys", { key: asked.key, title, answer: answerOf(credential) });
}

/** Signs in who has a passkey for this console. */
export async function signInByPasskey(): Promise<void> {
  const asked = await call<Asked>("POST", "/session/passkey/begin");
  const credential = await navigator.credentials.get({ publicKey: forms().parseRequestOptionsFromJSON!(asked.options) });
  await call("POST", "/session/passkey", { key: asked.key, answer: answerOf(credential) });
}
