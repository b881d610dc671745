// The code flow as a client does it by hand (RFC 6749 section 4.1, RFC 7636): each request and answer as text.
import { t } from "@/texts/sentences";

export interface Metadata {
  issuer: string;
  authorization_endpoint: string;
  token_endpoint: string;
  userinfo_endpoint: string;
  revocation_endpoint: string;
}
export interface Begun {
  state: string;
  nonce: string;
  verifier: string;
  redirectUri: string;
  address: string;
  parameters: [string, string][];
}
export interface Exchange {
  request: string;
  status: number;
  answer: Record<string, unknown>;
}

const text = (bytes: Uint8Array): string =>
  btoa(String.fromCharCode(...bytes))
    .replace(/\+/g, "-")
    .replace(/\//g, "_")
    .replace(/=+$/, "");
const random = (): string => text(crypto.getRandomValues(new Uint8Array(32)));

/** Return what the authorization request is, with values of its own for one try. */
export async function begin(
  metadata: Metadata,
  wanted: { clientId: string; redirectUri: string; scope: string; resource: string; prompt: string },
): Promise<Begun> {
  const [state, nonce, verifier] = [random(), random(), random()];
  const digest = await crypto.subtle.digest("SHA-256", new TextEncoder().encode(verifier));
  const parameters = (
    [
      ["response_type", "code"],
      ["client_id", wanted.clientId],
      ["redirect_uri", wanted.redirectUri],
      ["scope", wanted.scope],
      ["resource", wanted.resource],
      ["prompt", wanted.prompt],
      ["state", state],
      ["nonce", nonce],
      ["code_challenge", text(new Uint8Array(digest))],
      ["code_challenge_method", "S256"],
    ] as [string, string][]
  ).filter(([, value]) => value);
  const address = `${metadata.authorization_endpoint}?${new URLSearchParams(parameters).toString()}`;
  return { state, nonce, verifier, redirectUri: wanted.redirectUri, address, parameters };
}

/** Return what the address that somebody was sent back to says, and what is wrong with it. */
export function answered(
  begun: Begun,
  metadata: Metadata,
  address: string,
): { members: [string, string][]; code: string; wrong: string[] } {
  const wrong: string[] = [];
  let sent: URLSearchParams;
  try {
    const there = new URL(address.trim());
    sent = there.searchParams;
    const at = address.trim().split("?")[0] ?? "";
    if (at !== begun.redirectUri) wrong.push(t`It is not the redirect URI that was asked for, ${begun.redirectUri}.`);
  } catch {
    return { members: [], code: "", wrong: [t`This is no address. Copy it whole from the browser’s address bar.`] };
  }
  if (sent.get("state") !== begun.state) wrong.push(t`Its state is not the one that was sent: this is the answer to another request.`);
  if (sent.get("iss") !== metadata.issuer) wrong.push(t`Its iss is not ${metadata.issuer} (RFC 9207): another issuer answered.`);
  if (sent.get("error")) wrong.push(t`It was refused: ${sent.get("error") ?? ""}. ${sent.get("error_description") ?? ""}`);
  return { members: [...sent.entries()], code: sent.get("code") ?? "", wrong };
}

async function sent(method: string, address: string, headers: Record<string, string>, form?: Record<string, string>): Promise<Exchange> {
  const shown = Object.entries(form ?? {}).map(([name, value]) => `${name}=${name === "client_secret" ? t`(not shown)` : value}`);
  const heads = Object.entries(headers).map(([name, value]) => `${name}: ${value}`);
  if (form) heads.push("Content-Type: application/x-www-form-urlencoded");
  const request = [`${method} ${address}`, ...heads, ...(shown.length ? ["", ...shown] : [])].join("\n");
  // Its own address: the page asks the service that served it.
  const place = new URL(address);
  const answer = await fetch(place.pathname, {
    method,
    headers,
    body: form ? new URLSearchParams(form) : undefined,
    credentials: "omit",
  });
  const body = (await answer.json().catch(() => ({}))) as Record<string, unknown>;
  return { request, status: answer.status, answer: body };
}

const proven = (clientId: string, secret: string): Record<string, string> => ({
  client_id: clientId,
  ...(secret ? { client_secret: secret } : {}),
});

export const redeem = (metadata: Metadata, begun: Begun, code: string, clientId: string, secret: string): Promise<Exchange> =>
  sent(
    "POST",
    metadata.token_endpoint,
    {},
    {
      grant_type: "authorization_code",
      code,
      redirect_uri: begun.redirectUri,
      code_verifier: begun.verifier,
      ...proven(clientId, secret),
    },
  );

export const refresh = (metadata: Metadata, token: string, clientId: string, secret: string): Promise<Exchange> =>
  sent("POST", metadata.token_endpoint, {}, { grant_type: "refresh_token", refresh_token: token, ...proven(clientId, secret) });

export const userinfo = (metadata: Metadata, token: string): Promise<Exchange> =>
  sent("GET", metadata.userinfo_endpoint, { Authorization: `Bearer ${token}` });

export const revoke = (metadata: Metadata, token: string, clientId: string, secret: string): Promise<Exchange> =>
  sent("POST", metadata.revocation_endpoint, {}, { token, ...proven(clientId, secret) });
