// Another independent client, of OAuth 2.0 alone: endpoints by hand, as its documentation has it.
import { createHash, randomBytes } from "node:crypto";
import { createInterface } from "node:readline/promises";
import { AuthorizationCode } from "simple-oauth2";

const { ISSUER, CLIENT_ID, CLIENT_SECRET, REDIRECT_URI, SCOPE } = process.env;
const input = createInterface({ input: process.stdin });
const lines = input[Symbol.asyncIterator]();
const say = (name, value) => console.log(JSON.stringify({ [name]: value }));

const client = new AuthorizationCode({
  client: { id: CLIENT_ID, secret: CLIENT_SECRET },
  auth: { tokenHost: ISSUER, tokenPath: `${ISSUER}/token`, authorizePath: `${ISSUER}/authorize`, revokePath: `${ISSUER}/revoke` },
});
const verifier = randomBytes(32).toString("base64url");
const state = randomBytes(16).toString("base64url");
say(
  "address",
  client.authorizeURL({
    redirect_uri: REDIRECT_URI,
    scope: SCOPE,
    state,
    code_challenge: createHash("sha256").update(verifier).digest("base64url"),
    code_challenge_method: "S256",
  }),
);
const back = new URL((await lines.next()).value).searchParams;
if (back.get("state") !== state) throw new Error("another state");
let token = await client.getToken({ code: back.get("code"), redirect_uri: REDIRECT_URI, code_verifier: verifier });
token = await token.refresh();
const held = token.token.access_token;
await token.revokeAll();
const refused = await token.refresh().then(
  () => "",
  (error) => error.data?.payload?.error ?? String(error),
);
say("done", { scope: token.token.scope, token: held, refused });
input.close();
