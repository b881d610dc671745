// On a device without a browser (RFC 8628), by the earlier library of that name: its code is another.
import { Issuer } from "openid-client-5";

const { ISSUER, CLIENT_ID, SCOPE, RESOURCE } = process.env;
const say = (value) => console.log(JSON.stringify(value));
const issuer = await Issuer.discover(ISSUER);
const client = new issuer.Client({ client_id: CLIENT_ID, token_endpoint_auth_method: "none" });
const started = await client.deviceAuthorization({ scope: SCOPE, resource: RESOURCE });
say({ code: started.user_code, there: started.verification_uri });
const tokens = await started.poll();
const fresh = await client.refresh(tokens);
say({ scope: tokens.scope, sub: tokens.claims().sub, token: fresh.access_token });
