// Passkeys (W3C Web Authentication): what the service says and hears of them is JSON, what the browser takes is bytes.
import { ApiError, problemFrom } from "./problems";
import { api, must, type Schemas } from "./client";
import { t } from "@/texts/sentences";

type Json = Record<string, unknown>;

/** Whether this browser has passkeys at all: it keeps them from pages that are reached by a number. */
export const offersPasskeys = (): boolean =>
  typeof PublicKeyCredential !== "undefined" && !!navigator.credentials && !/^[\d.]+$|^\[/.test(window.location.hostname);

/** Whether passkeys of this service can be made and shown at the address by which the page was opened. */
export const belongsHere = (host: string): boolean =>
  !!host && (window.location.hostname === host || window.location.hostname.endsWith(`.${host}`));

const bytes = (text: string): Uint8Array<ArrayBuffer> => {
  const plain = atob(text.replace(/-/g, "+").replace(/_/g, "/"));
  const found = new Uint8Array(new ArrayBuffer(plain.length));
  for (let at = 0; at < plain.length; at++) found[at] = plain.charCodeAt(at);
  return found;
};
const text = (buffer: ArrayBuffer | null): string =>
  btoa(String.fromCharCode(...new Uint8Array(buffer ?? new ArrayBuffer(0))))
    .replace(/\+/g, "-")
    .replace(/\//g, "_")
    .replace(/=+$/, "");
const known = (listed: unknown): PublicKeyCredentialDescriptor[] =>
  ((listed ?? []) as { id: string }[]).map((one) => ({ type: "public-key", id: bytes(one.id) }));

/** Turn what the browser says when its person stopped, or took too long, into a problem in words. */
function stopped(error: unknown): never {
  const name = error instanceof DOMException ? error.name : "";
  if (!name) throw error;
  const detail =
    name === "InvalidStateError"
      ? t`This device has a passkey of yours already.`
      : t`No passkey was used: it was cancelled, or took too long.`;
  throw new ApiError({ ...problemFrom({ title: t`No passkey`, detail }, 0), next_step: t`Try again.` });
}

/** Have the browser make a passkey; return what the service keeps of it. */
export async function makePasskey(options: Json): Promise<Json> {
  const user = options.user as { id: string; name: string; displayName: string };
  const made = await navigator.credentials
    .create({
      publicKey: {
        ...(options as unknown as PublicKeyCredentialCreationOptions),
        challenge: bytes(options.challenge as string),
        user: { ...user, id: bytes(user.id) },
        excludeCredentials: known(options.excludeCredentials),
      },
    })
    .catch(stopped);
  const { rawId, response } = made as PublicKeyCredential;
  const { clientDataJSON, attestationObject } = response as AuthenticatorAttestationResponse;
  return told(rawId, { clientDataJSON: text(clientDataJSON), attestationObject: text(attestationObject) });
}

/** Have the browser show a passkey; return what proves it. */
export async function showPasskey(): Promise<Json> {
  const { options } = await must(api.POST("/api/v1/session/passkey/options"));
  const shown = await navigator.credentials
    .get({
      publicKey: {
        ...(options as unknown as PublicKeyCredentialRequestOptions),
        challenge: bytes(options.challenge as string),
        allowCredentials: known(options.allowCredentials),
      },
    })
    .catch(stopped);
  const { rawId, response } = shown as PublicKeyCredential;
  const { clientDataJSON, authenticatorData, signature, userHandle } = response as AuthenticatorAssertionResponse;
  return told(rawId, {
    clientDataJSON: text(clientDataJSON),
    authenticatorData: text(authenticatorData),
    signature: text(signature),
    userHandle: text(userHandle),
  });
}

const told = (rawId: ArrayBuffer, response: Json): Json => ({ id: text(rawId), rawId: text(rawId), type: "public-key", response });

export const addPasskey = async (name: string): Promise<Schemas["PasskeyAdded"]> => {
  const { options } = await must(api.POST("/api/v1/session/passkeys/options"));
  return must(api.POST("/api/v1/session/passkeys", { body: { name, credential: await makePasskey(options) } }));
};
