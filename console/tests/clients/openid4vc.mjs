// A third independent client, of a family of its own: it pushes what it asks, binds tokens to a key, and judges them as an API does.
import { createHash, createPrivateKey, createPublicKey, generateKeyPairSync, randomBytes, sign, verify } from "node:crypto";
import { createInterface } from "node:readline/promises";
import {
  Oauth2Client,
  Oauth2ResourceServer,
  clientAuthenticationDynamic,
  fetchJwks,
  setGlobalConfig,
  verifyIdTokenJwt,
} from "@openid4vc/oauth2";

const { ISSUER, CLIENT_ID, CLIENT_SECRET, CLIENT_KEY, KEY_ID, REDIRECT_URI, SCOPE, BOUND_AT, AUDIENCE } = process.env;
const input = createInterface({ input: process.stdin });
const lines = input[Symbol.asyncIterator]();
const say = (name, value) => console.log(JSON.stringify({ [name]: value }));
// The tests are on loopback, without TLS.
setGlobalConfig({ allowInsecureUrls: true });

const ieee = (key) => ({ key, dsaEncoding: "ieee-p1363" });
const packed = (value) => Buffer.from(JSON.stringify(value)).toString("base64url");
const signed = (key, header, payload) => {
  const text = `${packed(header)}.${packed(payload)}`;
  return `${text}.${sign("sha256", Buffer.from(text), ieee(key)).toString("base64url")}`;
};
const own = generateKeyPairSync("ec", { namedCurve: "P-256" });
const signer = { method: "jwk", alg: "ES256", publicJwk: own.publicKey.export({ format: "jwk" }) };

// RFC 7523 section 2.2; or whichever way of the metadata a secret goes.
const byKey = ({ body, authorizationServerMetadata: { issuer } }) => {
  const now = Math.floor(Date.now() / 1000);
  const says = { iss: CLIENT_ID, sub: CLIENT_ID, aud: issuer, jti: randomBytes(16).toString("hex"), iat: now, exp: now + 60 };
  const key = createPrivateKey({ key: JSON.parse(CLIENT_KEY), format: "jwk" });
  body.client_id = CLIENT_ID;
  body.client_assertion_type = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer";
  body.client_assertion = signed(key, { alg: "ES256", kid: KEY_ID }, says);
};
let sent = null;
const callbacks = {
  fetch: (url, options) => {
    if (String(url) === BOUND_AT) sent = { url: BOUND_AT, method: "GET", headers: new Headers(options.headers) };
    return fetch(url, options);
  },
  generateRandom: (length) => randomBytes(length),
  hash: (data) => createHash("sha256").update(data).digest(),
  signJwt: (_, { header, payload }) => ({ jwt: signed(own.privateKey, header, payload), signerJwk: signer.publicJwk }),
  verifyJwt: async (by, { compact, header }) => {
    const jwk = by.method === "jwk" ? by.publicJwk : (await fetchJwks(metadata.jwks_uri)).keys.find((one) => one.kid === header.kid);
    const [head, body, signature] = compact.split(".");
    const key = createPublicKey({ key: jwk, format: "jwk" });
    const way = header.alg.startsWith("ES") ? ieee(key) : key;
    const right = header.alg === "EdDSA" ? null : "sha256";
    const verified = verify(right, Buffer.from(`${head}.${body}`), way, Buffer.from(signature, "base64url"));
    return { verified, signerJwk: jwk };
  },
  clientAuthentication: CLIENT_KEY ? byKey : clientAuthenticationDynamic({ clientId: CLIENT_ID, clientSecret: CLIENT_SECRET }),
};
const client = new Oauth2Client({ callbacks });
const metadata = await client.fetchAuthorizationServerMetadata(ISSUER);
const [state, nonce] = [randomBytes(16).toString("base64url"), randomBytes(16).toString("base64url")];
const asked = await client.initiateAuthorization({
  authorizationServerMetadata: metadata,
  clientId: CLIENT_ID,
  redirectUri: REDIRECT_URI,
  scope: SCOPE,
  state,
  additionalRequestPayload: { nonce },
  dpop: { signer },
});
say("address", asked.authorizationRequestUrl);
const back = client.parseAuthorizationResponseRedirectUrl({ url: (await lines.next()).value });
client.verifyAuthorizationResponse({ authorizationServerMetadata: metadata, authorizationResponse: back });
if (back.state !== state) throw new Error("another state");
const first = await client.retrieveAuthorizationCodeAccessToken({
  authorizationServerMetadata: metadata,
  authorizationCode: back.code,
  pkceCodeVerifier: asked.pkce.codeVerifier,
  redirectUri: REDIRECT_URI,
  dpop: asked.dpop,
});
const held = first.accessTokenResponse;
const who = await verifyIdTokenJwt({
  idToken: held.id_token,
  authorizationServer: metadata,
  clientId: CLIENT_ID,
  expectedNonce: nonce,
  accessToken: held.access_token,
  callbacks,
});
const again = await client.retrieveRefreshTokenAccessToken({
  authorizationServerMetadata: metadata,
  refreshToken: held.refresh_token,
  dpop: first.dpop,
});
const token = again.accessTokenResponse.access_token;
const opened = await client.resourceRequest({
  url: BOUND_AT,
  requestOptions: { method: "GET" },
  accessToken: token,
  dpop: again.dpop,
  callbacks,
});
// What it sent, as an API that knows the issuer's metadata would judge it.
const api = new Oauth2ResourceServer({ callbacks });
const judged = await api.verifyResourceRequest({ request: sent, resourceServer: AUDIENCE, authorizationServers: [metadata] });
say("done", {
  sub: who.payload.sub,
  kind: again.accessTokenResponse.token_type,
  opened: opened.response.status,
  client: judged.tokenPayload.client_id,
  scope: judged.tokenPayload.scope,
});
input.close();
