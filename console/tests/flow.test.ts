import { expect, test } from "vitest";
import { answered, begin } from "@/api/flow";

const METADATA = {
  issuer: "https://jamb.example/d/port",
  authorization_endpoint: "https://jamb.example/d/port/authorize",
  token_endpoint: "https://jamb.example/d/port/token",
  userinfo_endpoint: "https://jamb.example/d/port/userinfo",
  revocation_endpoint: "https://jamb.example/d/port/revoke",
};
const WANTED = { clientId: "c-1", redirectUri: "https://app.example/back", scope: "openid berths.view", resource: "", prompt: "" };

test("a request is of its own each time, with the challenge of its verifier", async () => {
  const [first, second] = [await begin(METADATA, WANTED), await begin(METADATA, WANTED)];
  const sent = Object.fromEntries(new URL(first.address).searchParams);
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", new TextEncoder().encode(first.verifier)));
  const base64 = btoa(String.fromCharCode(...digest));
  expect(sent.code_challenge).toBe(base64.replaceAll("+", "-").replaceAll("/", "_").replaceAll("=", ""));
  expect(sent).toMatchObject({ response_type: "code", client_id: "c-1", code_challenge_method: "S256", state: first.state });
  expect(sent).not.toHaveProperty("resource");
  expect(new Set([first.state, first.nonce, first.verifier, second.state, second.nonce, second.verifier]).size).toBe(6);
});

test("the answer to another request, of another issuer or at another address is told as such", async () => {
  const begun = await begin(METADATA, WANTED);
  const back = (members: Record<string, string>, at = WANTED.redirectUri) =>
    answered(begun, METADATA, `${at}?${new URLSearchParams({ state: begun.state, iss: METADATA.issuer, ...members }).toString()}`);
  expect(back({ code: "abc" })).toMatchObject({ code: "abc", wrong: [] });
  expect(back({ code: "abc", state: "another" }).wrong).toHaveLength(1);
  expect(back({ code: "abc", iss: "https://elsewhere.example" }).wrong[0]).toContain("RFC 9207");
  expect(back({ code: "abc" }, "https://app.example/other").wrong[0]).toContain("not the redirect URI");
  expect(back({ error: "access_denied", error_description: "The person said no." }).wrong[0]).toContain("The person said no.");
  expect(answered(begun, METADATA, "nonsense").wrong[0]).toContain("no address");
});
