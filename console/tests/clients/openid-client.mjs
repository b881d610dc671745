// An independent client of OpenID Connect: it knows the issuer's address, and what its registration says.
import { createInterface } from "node:readline/promises";
import * as openid from "openid-client";

const { ISSUER, CLIENT_ID, CLIENT_SECRET, CLIENT_KEY, KEY_ID, REDIRECT_URI, SCOPE, ASKED, BOUND_AT, INITIAL_ACCESS } = process.env;
const input = createInterface({ input: process.stdin });
const lines = input[Symbol.asyncIterator]();
const say = (name, value) => console.log(JSON.stringify({ [name]: value }));

const key = CLIENT_KEY
  ? {
      kid: KEY_ID,
      key: await crypto.subtle.importKey("jwk", JSON.parse(CLIENT_KEY), { name: "ECDSA", namedCurve: "P-256" }, false, ["sign"]),
    }
  : undefined;
const proof = key ? openid.PrivateKeyJwt(key) : CLIENT_SECRET ? undefined : openid.None();
// The tests are on loopback, without TLS.
const execute = [openid.allowInsecureRequests];
const config = INITIAL_ACCESS
  ? await openid.dynamicClientRegistration(
      new URL(ISSUER),
      { client_name: `Kiosk ${openid.randomState()}`, redirect_uris: [REDIRECT_URI], grant_types: ["authorization_code", "refresh_token"] },
      undefined,
      { initialAccessToken: INITIAL_ACCESS, execute },
    )
  : await openid.discovery(new URL(ISSUER), CLIENT_ID, CLIENT_SECRET || undefined, proof, { execute });
// Where tokens are bound to a key, the address of an API that they open.
const DPoP = BOUND_AT ? openid.getDPoPHandle(config, await openid.randomDPoPKeyPair("ES256")) : undefined;
const verifier = openid.randomPKCECodeVerifier();
const state = openid.randomState();
const nonce = openid.randomNonce();
const asked = {
  redirect_uri: REDIRECT_URI,
  scope: SCOPE,
  code_challenge: await openid.calculatePKCECodeChallenge(verifier),
  code_challenge_method: "S256",
  state,
  nonce,
};
const address = await {
  plainly: () => openid.buildAuthorizationUrl(config, asked),
  pushed: () => openid.buildAuthorizationUrlWithPAR(config, asked, { DPoP }),
  signed: () => openid.buildAuthorizationUrlWithJAR(config, asked, key),
}[ASKED]();
say("address", address.href);
const back = new URL((await lines.next()).value);
const checks = { pkceCodeVerifier: verifier, expectedState: state, expectedNonce: nonce, idTokenExpected: true };
const tokens = await openid.authorizationCodeGrant(config, back, checks, undefined, { DPoP });
const claims = tokens.claims();
const who = await openid.fetchUserInfo(config, tokens.access_token, claims.sub, { DPoP });
const fresh = await openid.refreshTokenGrant(config, tokens.refresh_token, undefined, { DPoP });
const opened = BOUND_AT
  ? (await openid.fetchProtectedResource(config, fresh.access_token, new URL(BOUND_AT), "GET", undefined, undefined, { DPoP })).status
  : 0;
const told = CLIENT_SECRET || INITIAL_ACCESS || key ? await openid.tokenIntrospection(config, fresh.access_token) : { active: true };
await openid.tokenRevocation(config, fresh.refresh_token);
const refused = await openid.refreshTokenGrant(config, fresh.refresh_token, undefined, { DPoP }).then(
  () => "",
  (error) => error.error,
);
const kind = fresh.token_type;
const out = openid.buildEndSessionUrl(config, { id_token_hint: tokens.id_token, state: "bye" }).href;
say("done", {
  kind,
  opened,
  out,
  sub: claims.sub,
  name: who.name,
  scope: tokens.scope,
  token: tokens.access_token,
  active: told.active,
  refused,
});
input.close();
