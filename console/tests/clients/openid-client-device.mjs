// The same independent client on a device without a browser (RFC 8628): it shows a code, and asks until somebody answers.
import * as openid from "openid-client";

const { ISSUER, CLIENT_ID, SCOPE, RESOURCE } = process.env;
const say = (value) => console.log(JSON.stringify(value));
const config = await openid.discovery(new URL(ISSUER), CLIENT_ID, undefined, openid.None(), {
  // The tests are on loopback, without TLS.
  execute: [openid.allowInsecureRequests],
});
const started = await openid.initiateDeviceAuthorization(config, { scope: SCOPE, resource: RESOURCE });
say({ code: started.user_code, there: started.verification_uri });
const tokens = await openid.pollDeviceAuthorizationGrant(config, started);
const fresh = await openid.refreshTokenGrant(config, tokens.refresh_token);
say({ scope: tokens.scope, sub: tokens.claims()?.sub, token: fresh.access_token });
