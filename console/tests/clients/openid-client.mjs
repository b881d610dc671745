// An independent client of OpenID Connect: it knows the issuer's address, and what its registration says.
import { createInterface } from "node:readline/promises";
import * as openid from "openid-client";

const { ISSUER, CLIENT_ID, CLIENT_SECRET, CLIENT_KEY, KEY_ID, REDIRECT_URI, SCOPE, ASKED } = process.env;
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
const config = await openid.discovery(new URL(ISSUER), CLIENT_ID, CLIENT_SECRET || undefined, proof, {
  // The tests are on loopback, without TLS.
  execute: [openid.allowInsecureRequests],
});
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
  pushed: () => openid.buildAuthorizationUrlWithPAR(config, asked),
  signed: () => openid.buildAuthorizationUrlWithJAR(config, asked, key),
}[ASKED]();
say("address", address.href);
const back = new URL((await lines.next()).value);
const tokens = await openid.authorizationCodeGrant(config, back, {
  pkceCodeVerifier: verifier,
  expectedState: state,
  expectedNonce: nonce,
  idTokenExpected: true,
});
const claims = tokens.claims();
const who = await openid.fetchUserInfo(config, tokens.access_token, claims.sub);
const fresh = await openid.refreshTokenGrant(config, tokens.refresh_token);
const told = CLIENT_SECRET || key ? await openid.tokenIntrospection(config, fresh.access_token) : { active: true };
await openid.tokenRevocation(config, fresh.refresh_token);
const refused = await openid.refreshTokenGrant(config, fresh.refresh_token).then(
  () => "",
  (error) => error.error,
);
say("done", { sub: claims.sub, name: who.name, scope: tokens.scope, token: tokens.access_token, active: told.active, refused });
input.close();
