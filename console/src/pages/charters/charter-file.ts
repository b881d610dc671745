// Charters as files (TOML 1.0): read here, and judged by the service.
import { parse } from "smol-toml";
import type { Schemas } from "@/api/client";
import { ApiError, problemFrom } from "@/api/problems";
import { t } from "@/texts/sentences";

export type Charter = Schemas["Charter"];

/** What a file holds; what it says is for the service to judge. Throws where it is no TOML, with the line. */
export function readCharter(text: string): Charter {
  try {
    return parse(text) as unknown as Charter;
  } catch (error) {
    const said = error instanceof Error ? (error.message.split("\n")[0] ?? "") : "";
    const next_step = t`A client's page, or \`jamb charter write\`, makes one.`;
    throw new ApiError(problemFrom({ title: t`Not a charter`, detail: t`This is not TOML: ${said}.`, next_step }, 400));
  }
}

/** What a charter says of the registration itself, as a request sends it; what it leaves out is nothing. */
export const factsOf = (charter: Charter) => ({
  purpose: charter.purpose,
  redirect_uris: charter.redirect_uris ?? [],
  post_logout_redirect_uris: charter.post_logout_redirect_uris ?? [],
  backchannel_logout_uri: charter.backchannel_logout_uri ?? "",
  sign_in_groups: charter.sign_in_groups ?? [],
  publisher: charter.publisher ?? "",
  support_contact: charter.support_contact ?? "",
  client_uri: charter.client_uri ?? "",
  policy_uri: charter.policy_uri ?? "",
  tos_uri: charter.tos_uri ?? "",
  grant_types: charter.grant_types ?? [],
});
