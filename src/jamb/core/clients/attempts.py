"""How a token request ended: the exact reason, kept for administrators, and what of it the caller may learn.

RFC 6749 section 5.2 names the errors on the wire. Whoever has not proved to be the client learns only what their own
text shows; the record tells the administrator everything.
"""

from __future__ import annotations

from enum import StrEnum


class Outcome(StrEnum):
    ISSUED = "issued"
    UNKNOWN_CLIENT = "unknown-client"
    CLIENT_DISABLED = "client-disabled"
    NO_SECRET = "no-secret"  # noqa: S105 - the name of an outcome
    SECRET_WHITESPACE = "secret-whitespace"  # noqa: S105 - the name of an outcome
    SECRET_DAMAGED = "secret-damaged"  # noqa: S105 - the name of an outcome
    SECRET_UNKNOWN = "secret-unknown"  # noqa: S105 - the name of an outcome
    SECRET_OF_ANOTHER = "secret-of-another-client"  # noqa: S105 - the name of an outcome
    SECRET_EXPIRED = "secret-expired"  # noqa: S105 - the name of an outcome
    SECRET_WITHDRAWN = "secret-withdrawn"  # noqa: S105 - the name of an outcome
    CREDENTIAL_DISABLED = "credential-disabled"
    NO_KEYS = "no-keys"
    ASSERTION_MALFORMED = "assertion-malformed"
    ASSERTION_ISSUER = "assertion-of-another"
    ASSERTION_AUDIENCE = "assertion-for-another"
    ASSERTION_TIME = "assertion-time"
    ASSERTION_REPLAYED = "assertion-replayed"
    ASSERTION_KEY = "assertion-key"
    KEY_EXPIRED = "key-expired"
    KEY_WITHDRAWN = "key-withdrawn"
    KEYS_UNREACHABLE = "keys-unreachable"
    UNKNOWN_RESOURCE = "unknown-resource"
    RESOURCE_NOT_NAMED = "resource-not-named"
    UNKNOWN_PERMISSION = "unknown-permission"
    NOT_GRANTED = "not-granted"
    ASKED_NOT_GRANTED = "asked-not-granted"
    WRONG_GRANT_TYPE = "wrong-grant-type"
    DEVICE_DENIED = "device-denied"
    DEVICE_EXPIRED = "device-expired"
    TOO_MANY = "too-many"
    DIRECTORY_SUSPENDED = "directory-suspended"
    NOT_ANSWERED = "not-answered"
    REQUEST_REFUSED = "request-refused"
    CHALLENGE_MISSING = "challenge-missing"
    PERSON_DECLINED = "person-declined"
    CODE_UNKNOWN = "code-unknown"
    CODE_EXPIRED = "code-expired"
    CODE_REPLAYED = "code-replayed"
    REDIRECT_DIFFERS = "redirect-differs"
    VERIFIER_WRONG = "verifier-wrong"
    REFRESH_UNKNOWN = "refresh-unknown"
    REFRESH_ENDED = "refresh-ended"
    REFRESH_REPLAYED = "refresh-replayed"
    PERSON_GONE = "person-inactive"
    POSSESSION = "possession"
    SIGN_OUT_UNHEARD = "sign-out-unheard"
    NOT_ADMITTED = "not-admitted"
    SUBJECT_TOKEN = "subject-token"  # noqa: S105 - the name of an outcome


# Whoever presented it had one that works no more.
DEAD = (
    Outcome.SECRET_EXPIRED,
    Outcome.SECRET_WITHDRAWN,
    Outcome.CREDENTIAL_DISABLED,
    Outcome.KEY_EXPIRED,
    Outcome.KEY_WITHDRAWN,
)

# What counts once came a second time: one of two who have it is not the client.
REPLAYED = (Outcome.CODE_REPLAYED, Outcome.REFRESH_REPLAYED)

# What bears on the audit: of each how often, and when last.
TOLD = (*REPLAYED, Outcome.CHALLENGE_MISSING)

# What to do, for the person who reads the client's failed attempts.
REMEDIES: dict[Outcome, str] = {
    Outcome.ISSUED: "",
    Outcome.UNKNOWN_CLIENT: "Check the client id against the connection sheet.",
    Outcome.CLIENT_DISABLED: "The client is disabled here; it gets no tokens.",
    Outcome.DIRECTORY_SUSPENDED: "Nobody gets tokens until whoever runs the service resumes the directory.",
    Outcome.NO_SECRET: "Send the client secret by HTTP Basic or in the form.",
    Outcome.SECRET_WHITESPACE: "Remove the spaces or line end around the secret where it is configured.",
    Outcome.SECRET_DAMAGED: "The secret is not whole; copy it again, or issue another and withdraw the lost one.",
    Outcome.SECRET_UNKNOWN: "No such secret here; issue another if the right one is lost.",
    Outcome.SECRET_OF_ANOTHER: "The secret belongs to another client; check which sheet was used.",
    Outcome.SECRET_EXPIRED: "Issue another secret and configure it.",
    Outcome.SECRET_WITHDRAWN: "Configure the secret that replaced it, or issue another.",
    Outcome.CREDENTIAL_DISABLED: "Enable the credential again, or configure another.",
    Outcome.NO_KEYS: "Give the client a certificate or a key set, or trust the outside issuer for it.",
    Outcome.ASSERTION_MALFORMED: "Correct the assertion where it is made; the detail says what is wrong with it.",
    Outcome.ASSERTION_ISSUER: "Make iss and sub the client id, or those that the trusted outside issuer uses.",
    Outcome.ASSERTION_AUDIENCE: "Make the issuer of the connection sheet the only audience of the assertion.",
    Outcome.ASSERTION_TIME: "Set the clock of the machine by the network's time, and make each assertion anew.",
    Outcome.ASSERTION_REPLAYED: "Make a new assertion, with another jti, for each token.",
    Outcome.ASSERTION_KEY: "Sign with the private key of a credential that stands here; name it by kid or x5t#S256.",
    Outcome.KEY_EXPIRED: "Add the certificate or key set that follows it.",
    Outcome.KEY_WITHDRAWN: "Sign with the key that replaced it, or add another.",
    Outcome.KEYS_UNREACHABLE: "Look whether the address of the keys answers; the detail says what happened.",
    Outcome.UNKNOWN_RESOURCE: "Send the resource from the connection sheet, to the mail.",
    Outcome.RESOURCE_NOT_NAMED: "Send the parameter resource: this client has grants at more than one, or at none.",
    Outcome.UNKNOWN_PERMISSION: "Correct the scope: the resource has no such permission.",
    Outcome.NOT_GRANTED: "Ask for the permission, then have an approver consent.",
    Outcome.ASKED_NOT_GRANTED: "Have an approver consent to what is asked.",
    Outcome.WRONG_GRANT_TYPE: "Use the grant type that fits the client's kind.",
    Outcome.DEVICE_DENIED: "The person said no; start again if that was a mistake.",
    Outcome.DEVICE_EXPIRED: "The code ran out before it was approved; start again.",
    Outcome.NOT_ANSWERED: "Register the redirect URI letter by letter as it is sent, or send a registered one.",
    Outcome.REQUEST_REFUSED: "Correct the authorization request; the detail says what is wrong with it.",
    Outcome.CHALLENGE_MISSING: "Have the application use PKCE: send code_challenge, and S256 as its method.",
    Outcome.PERSON_DECLINED: "The person did not allow it.",
    Outcome.CODE_UNKNOWN: "Send the code as it came, once, with the client id that asked for it.",
    Outcome.CODE_EXPIRED: "Redeem a code at once: it lives for a minute.",
    Outcome.CODE_REPLAYED: "Redeem each code once. If it was not the application, somebody reads its addresses.",
    Outcome.REDIRECT_DIFFERS: "Send the same redirect_uri to the token endpoint as before.",
    Outcome.VERIFIER_WRONG: "Keep the code_verifier with the person's session; send the one of this code.",
    Outcome.REFRESH_UNKNOWN: "Send the refresh token that came last, with the client id that it was issued to.",
    Outcome.REFRESH_ENDED: "Have the person sign in again.",
    Outcome.REFRESH_REPLAYED: "Keep the refresh token that came last. If it was not the application, one was stolen.",
    Outcome.PERSON_GONE: "The person is not active in this directory any more.",
    Outcome.POSSESSION: "Make a DPoP proof for each request, with the key that the code or refresh token is bound to.",
    Outcome.SIGN_OUT_UNHEARD: "Look whether the back-channel logout URI answers: somebody may still be signed in.",
    Outcome.NOT_ADMITTED: "The person is in none of the groups that the client is for.",
    Outcome.SUBJECT_TOKEN: "Exchange a token of a person that was sent to the resource that this client guards.",
    Outcome.TOO_MANY: "Somebody tries at random; look at the address, and let the network keep it away.",
}
