"""The operations of Jamb's own API. Its objects are the clients: an address that names one is about it."""

from __future__ import annotations

from jamb.core.permissions import DataClass, Effect, Operation

_READ, _WRITE, _CONTROL = Effect.READ, Effect.WRITE, Effect.CONTROL
_CLIENT, _RESOURCE = "/clients/{client}", "/resources/{name}"
_FINDING, _RIGHTSIZING = "/audit/findings/{finding}", _CLIENT + "/rightsizing/{resource}"
_ROTATION = _CLIENT + "/rotations/{rotation}"


def _operation(name: str, title: str, method: str, path: str, effect: Effect) -> Operation:
    data = DataClass.OPEN if name == "directory.read" else DataClass.INTERNAL
    return Operation(name, title, method, path, effect, data)


OPERATIONS = (
    _operation("directory.read", "Read the directory and its policy", "GET", "/", _READ),
    _operation("policy.change", "Change the directory's policy", "PUT", "/policy", _CONTROL),
    _operation("policy.preview", "See whom a policy would put in breach", "POST", "/policy/preview", _READ),
    _operation("today.read", "Read what waits, ends and changed", "GET", "/today", _READ),
    _operation("people.list", "List people", "GET", "/people", _READ),
    _operation("people.add", "Add a person", "POST", "/people", _CONTROL),
    _operation("people.import", "Add people from a CSV file", "POST", "/people/import", _CONTROL),
    _operation("people.link", "Make a sign-in link for a person", "POST", "/people/{person}/sign-in-links", _CONTROL),
    _operation("people.change", "Change a person, or whether they may act", "POST", "/people/{person}", _CONTROL),
    _operation("providers.list", "List sign-in providers", "GET", "/providers", _READ),
    _operation("providers.save", "Let people sign in by a provider", "PUT", "/providers/{provider}", _CONTROL),
    _operation("providers.remove", "Remove a sign-in provider", "DELETE", "/providers/{provider}", _CONTROL),
    _operation("providers.try", "See whom a provider would mean", "POST", "/providers/{provider}/trial", _READ),
    _operation("signing-keys.list", "List the keys that sign tokens", "GET", "/signing-keys", _READ),
    _operation("signing-keys.rotate", "Have another key sign tokens", "POST", "/signing-keys", _CONTROL),
    _operation(
        "signing-keys.withdraw", "Withdraw a signing key", "POST", "/signing-keys/{signing_key}/withdrawal", _CONTROL
    ),
    _operation("groups.list", "List groups", "GET", "/groups", _READ),
    _operation("groups.save", "Make or change a group", "PUT", "/groups/{group}", _CONTROL),
    _operation("groups.remove", "Remove a group", "DELETE", "/groups/{group}", _CONTROL),
    _operation("roles.list", "List roles and who holds them", "GET", "/roles", _READ),
    _operation("roles.holders", "List who holds a role, and where", "GET", "/roles/{role}/holders", _READ),
    _operation("roles.save", "Make or change a role", "PUT", "/roles/{role}", _CONTROL),
    _operation("roles.remove", "Remove a role", "DELETE", "/roles/{role}", _CONTROL),
    _operation("roles.assign", "Assign a role", "POST", "/roles/{role}/assignments", _CONTROL),
    _operation(
        "roles.preview", "See what a role would let clients do", "POST", "/roles/{role}/assignments/preview", _READ
    ),
    _operation("roles.withdraw", "Withdraw a role", "POST", "/roles/{role}/assignments/withdrawal", _CONTROL),
    _operation("resources.list", "List resources", "GET", "/resources", _READ),
    _operation("resources.read", "Read a resource's catalogue", "GET", _RESOURCE, _READ),
    _operation("resources.draft", "Draft a resource from an OpenAPI document", "POST", "/resources/draft", _READ),
    _operation("resources.preview", "See whom a changed resource affects", "POST", _RESOURCE + "/preview", _READ),
    _operation("resources.publish", "Publish or change a resource", "PUT", _RESOURCE, _CONTROL),
    _operation("resources.set-address", "Say where a resource answers", "PUT", _RESOURCE + "/address", _CONTROL),
    _operation("permissions.propose", "Propose the smallest permissions", "GET", _RESOURCE + "/proposal", _READ),
    _operation("holders.read", "See who can do an operation", "GET", _RESOURCE + "/holders", _READ),
    _operation("collections.read", "Read a resource's collections", "GET", _RESOURCE + "/collections", _READ),
    _operation("collections.replace", "Replace a resource's collections", "PUT", _RESOURCE + "/collections", _CONTROL),
    _operation("initial-access.list", "List initial access tokens", "GET", "/initial-access-tokens", _READ),
    _operation("initial-access.make", "Let software register clients", "POST", "/initial-access-tokens", _WRITE),
    _operation(
        "initial-access.withdraw",
        "Withdraw an initial access token",
        "POST",
        "/initial-access-tokens/{token}/withdrawal",
        _WRITE,
    ),
    _operation("clients.list", "List clients", "GET", "/clients", _READ),
    _operation("clients.register", "Register a client", "POST", "/clients", _WRITE),
    _operation("clients.read", "Read a client's dossier", "GET", _CLIENT, _READ),
    _operation("clients.set-state", "Disable or enable a client", "POST", _CLIENT + "/state", _WRITE),
    _operation("tokens.revoke", "Refuse a client's earlier tokens", "POST", _CLIENT + "/token-revocation", _WRITE),
    _operation("owners.change", "Change who owns a client", "POST", _CLIENT + "/owners", _WRITE),
    _operation("asks.add", "Ask for permissions", "POST", _CLIENT + "/asks", _WRITE),
    _operation("asks.check", "Review a list of permissions before asking", "POST", _CLIENT + "/asks/check", _READ),
    _operation("asks.add-list", "Ask for a list of permissions", "POST", _CLIENT + "/asks/list", _WRITE),
    _operation("asks.drop", "Drop an ask", "DELETE", _CLIENT + "/asks/{ask}", _WRITE),
    _operation(
        "inheritance.preview", "See what a client would inherit", "POST", _CLIENT + "/inheritance/preview", _READ
    ),
    _operation(
        "inheritance.ask", "Ask to let a client inherit what one may do", "POST", _CLIENT + "/inheritance", _WRITE
    ),
    _operation("consent.list", "List consents, those of people too", "GET", _CLIENT + "/consents", _READ),
    _operation("consents.list", "List the consents of all clients", "GET", "/consents", _READ),
    _operation("consent.preview", "See what consent would make possible", "POST", _CLIENT + "/consent/preview", _READ),
    _operation("consent.grant", "Consent to what is asked", "POST", _CLIENT + "/consent", _CONTROL),
    _operation("asks.decline", "Decline what is asked", "POST", _CLIENT + "/consent/refusal", _WRITE),
    _operation("consent.change-reach", "Change where a consent counts", "POST", _CLIENT + "/consent/reach", _CONTROL),
    _operation(
        "reach.preview", "See what another reach would change", "POST", _CLIENT + "/consent/reach/preview", _READ
    ),
    _operation("consent.withdraw", "End a consent", "POST", _CLIENT + "/consent/withdrawal", _WRITE),
    _operation("requests.make", "Ask an approver to consent", "POST", _CLIENT + "/requests", _WRITE),
    _operation("requests.withdraw", "Take a request back", "POST", _CLIENT + "/requests/{request}/withdrawal", _WRITE),
    _operation("requests.list", "List requests for consent", "GET", "/requests", _READ),
    _operation("requests.read", "Read a request for consent", "GET", "/requests/{request}", _READ),
    _operation("requests.decide", "Decide a request for consent", "POST", "/requests/{request}/decision", _CONTROL),
    _operation("credentials.issue", "Issue a client secret", "POST", _CLIENT + "/secrets", _CONTROL),
    _operation("credentials.make", "Make a certificate with its key pair", "POST", _CLIENT + "/certificates", _CONTROL),
    _operation("credentials.add", "Add a certificate, keys or issuer", "POST", _CLIENT + "/credentials", _CONTROL),
    _operation(
        "credentials.set-state",
        "Disable or enable a credential",
        "POST",
        _CLIENT + "/credentials/{credential}/state",
        _WRITE,
    ),
    _operation(
        "credentials.withdraw",
        "Withdraw a credential",
        "POST",
        _CLIENT + "/credentials/{credential}/withdrawal",
        _WRITE,
    ),
    _operation(
        "credentials.users",
        "See from where a credential is used",
        "GET",
        _CLIENT + "/credentials/{credential}/users",
        _READ,
    ),
    _operation("rotations.due", "List what expires soon and nothing follows", "GET", "/rotations/due", _READ),
    _operation("rotations.list", "List rotations", "GET", "/rotations", _READ),
    _operation("rotations.foresee", "Foresee a year of rotations", "GET", "/rotations/forecast", _READ),
    _operation("rotations.read", "See how far a rotation is", "GET", _ROTATION, _READ),
    _operation(
        "rotations.open",
        "Put another credential beside one",
        "POST",
        _CLIENT + "/credentials/{credential}/rotation",
        _CONTROL,
    ),
    _operation(
        "rotations.open-all",
        "Put others beside many credentials at once",
        "POST",
        "/rotations",
        _CONTROL,
    ),
    _operation("rotations.reissue", "Issue a rotation's lost secret again", "POST", _ROTATION + "/reissue", _CONTROL),
    _operation("rotations.extend", "Let the overlap of a rotation last", "POST", _ROTATION + "/extension", _WRITE),
    _operation("rotations.close", "Withdraw the old credential of a rotation", "POST", _ROTATION + "/closing", _WRITE),
    _operation("rotations.abandon", "Give a rotation up", "POST", _ROTATION + "/abandonment", _WRITE),
    _operation("handovers.list", "List handover links", "GET", _CLIENT + "/handovers", _READ),
    _operation("handovers.make", "Hand a new credential over by a link", "POST", _CLIENT + "/handovers", _CONTROL),
    _operation(
        "handovers.withdraw", "Take a handover link back", "POST", _CLIENT + "/handovers/{handover}/withdrawal", _WRITE
    ),
    _operation("handovers.seal", "Seal a new credential to a recipient", "POST", _CLIENT + "/sealings", _CONTROL),
    _operation("recipients.list", "List to whom credentials can be sealed", "GET", _CLIENT + "/recipients", _READ),
    _operation("recipient-key.read", "Read one's own recipient key", "GET", "/recipient-key", _READ),
    # As a calendar: it changes nothing but what oneself can read, so that whoever may read may have one.
    _operation("recipient-key.set", "Register one's own recipient key", "PUT", "/recipient-key", _READ),
    _operation("leaks.look-up", "Look up secrets that leaked", "POST", "/leaks", _READ),
    _operation("notices.list", "List what people were told", "GET", "/notices", _READ),
    _operation("duties.list", "List what the service could not do", "GET", "/duties", _READ),
    _operation("calendar.make", "Make a calendar feed", "POST", "/calendar", _READ),
    _operation("webhooks.list", "List webhooks", "GET", "/webhooks", _READ),
    _operation("webhooks.add", "Let an address hear of everything", "POST", "/webhooks", _CONTROL),
    _operation("webhooks.remove", "Remove a webhook", "DELETE", "/webhooks/{webhook}", _CONTROL),
    _operation("webhooks.dead", "List events that a webhook did not take", "GET", "/webhooks/{webhook}/dead", _READ),
    _operation("webhooks.revive", "Try those events anew", "POST", "/webhooks/{webhook}/revival", _CONTROL),
    _operation("sheet.read", "Read a connection sheet", "GET", _CLIENT + "/sheet", _READ),
    _operation("attempts.list", "List token requests", "GET", _CLIENT + "/attempts", _READ),
    _operation("refusals.list", "List calls that protected APIs refused", "GET", _CLIENT + "/refusals", _READ),
    _operation("explanations.read", "Explain a decision", "POST", _CLIENT + "/explanation", _READ),
    _operation("reach.read", "Prove what a client can touch", "GET", _CLIENT + "/reach", _READ),
    _operation("probe.run", "Probe a client at a resource", "POST", _CLIENT + "/probe", _CONTROL),
    _operation("audit.read", "Run the audit", "GET", "/audit", _READ),
    _operation("audit.report", "Take the audit to other tools", "GET", "/audit/report", _READ),
    _operation("findings.waive", "Waive a finding", "POST", "/audit/findings/{finding}/waiver", _CONTROL),
    _operation(
        "findings.end-waiver", "Count a waived finding again", "POST", "/audit/findings/{finding}/waiver/ending", _WRITE
    ),
    _operation(
        "findings.assign", "Have a person see to a finding", "POST", "/audit/findings/{finding}/assignment", _WRITE
    ),
    _operation("findings.mine", "List what one is to see to", "GET", "/my-findings", _READ),
    _operation("findings.answer", "Answer for a finding", "POST", _CLIENT + "/findings/{finding}/answer", _WRITE),
    _operation("findings.list", "List findings", "GET", "/audit/findings", _READ),
    _operation("findings.read", "Read a finding", "GET", _FINDING, _READ),
    _operation("findings.list-groups", "List findings in groups", "GET", "/audit/groups", _READ),
    _operation("findings.read-remedy", "See what a finding's remedy would do", "GET", _FINDING + "/remedy", _READ),
    # Whoever carries a remedy out must be allowed what it does, too.
    _operation("findings.resolve", "Carry out a finding's remedy", "POST", _FINDING + "/remedy", _WRITE),
    _operation("excess.rank", "Rank clients, owners or resources by excess", "GET", "/audit/excess", _READ),
    _operation("excess.trend", "See how excess went", "GET", "/audit/excess/trend", _READ),
    _operation("audit.look-again", "Have every client looked at anew", "POST", "/audit/evaluation", _READ),
    _operation("audit.bundle", "Take the evidence along, signed", "GET", "/audit/bundle", _READ),
    _operation("escalation.read", "See escalation paths", "GET", "/audit/escalation-paths", _READ),
    _operation("dry-runs.list", "List dry runs of smaller grants", "GET", "/audit/dry-runs", _READ),
    _operation("rightsizing.read", "See what would do instead", "GET", _RIGHTSIZING, _READ),
    _operation("dry-runs.start", "Start a dry run of a smaller grant", "POST", _RIGHTSIZING + "/dry-run", _WRITE),
    _operation("dry-runs.end", "End a dry run", "DELETE", _RIGHTSIZING + "/dry-run", _WRITE),
    _operation("rightsizing.request", "Ask an approver for a smaller grant", "POST", _RIGHTSIZING + "/request", _WRITE),
    _operation("rightsizing.enforce", "Put a smaller grant in force", "POST", _RIGHTSIZING + "/enforcement", _CONTROL),
    _operation("clients.change", "Change a registration", "PUT", _CLIENT, _WRITE),
    _operation("charters.read", "Write a client down as a charter", "GET", _CLIENT + "/charter", _READ),
    _operation("charters.compare", "Compare a charter with what is here", "POST", "/charters/comparison", _READ),
    _operation("removals.list", "List removed clients", "GET", "/removals", _READ),
    _operation("removals.preview", "See what a removal would take along", "POST", "/removals/preview", _READ),
    _operation("clients.remove", "Remove a client", "POST", _CLIENT + "/removal", _WRITE),
    _operation("clients.restore", "Restore a removed client", "POST", _CLIENT + "/restoration", _CONTROL),
    _operation("publishers.list", "List publishers somebody answers for", "GET", "/publishers", _READ),
    _operation("publishers.vouch", "Vouch for a publisher", "PUT", "/publishers/{domain}", _CONTROL),
    _operation("publishers.disown", "Vouch for a publisher no more", "DELETE", "/publishers/{domain}", _WRITE),
    _operation("reviews.list", "List access reviews", "GET", "/reviews", _READ),
    _operation("reviews.read", "Read an access review", "GET", "/reviews/{review}", _READ),
    _operation("reviews.list-items", "List what a review asks", "GET", "/reviews/{review}/items", _READ),
    _operation("reviews.preview", "See what a review would ask", "POST", "/reviews/preview", _READ),
    _operation("reviews.start", "Start an access review", "POST", "/reviews", _WRITE),
    _operation("reviews.close", "Close an access review", "POST", "/reviews/{review}/closing", _WRITE),
    _operation("reviews.carry-out", "Carry out answers", "POST", "/reviews/{review}/carrying-out", _CONTROL),
    _operation("reviews.mine", "List what one is asked to review", "GET", "/my-reviews", _READ),
    _operation("reviews.answer", "Answer for a client", "POST", _CLIENT + "/reviews/{review}/answers", _WRITE),
    _operation("search", "Find anything by a word", "GET", "/search", _READ),
    _operation("ledger.read", "Read the ledger", "GET", "/ledger", _READ),
    _operation("ledger.verify", "Verify the ledger", "GET", "/ledger/verification", _READ),
    _operation("usage.report", "Report used operations", "POST", "/usage", _WRITE),
    _operation("revocations.read", "Read what a guard must know", "GET", "/revocations", _READ),
)

# What an Idempotency-Key may name. Reports of use carry an id of their own.
CHANGES = frozenset(one.name for one in OPERATIONS if one.effect is not _READ) - {"usage.report"}
# What the policy may want a person to confirm anew (`confirm_minutes`).
HEAVY = frozenset(one.name for one in OPERATIONS if one.effect is _CONTROL)
READS = frozenset(one.name for one in OPERATIONS if one.effect is _READ) - {"revocations.read"}
OF_CLIENTS = frozenset(one.name for one in OPERATIONS if one.path.startswith(_CLIENT))
# What names no client and is still open to a role that is bounded to some: whoever works on clients of their own looks
# things up in it, and reads there what is their own. None of it is about other clients.
READS_OWN = frozenset(
    {
        "directory.read",
        "resources.list",
        "resources.read",
        "permissions.propose",
        "collections.read",
        "clients.list",
        "rotations.due",
        "rotations.list",
        "leaks.look-up",
        "calendar.make",
        "recipient-key.read",
        "recipient-key.set",
        "requests.list",
        "requests.read",
        "reviews.mine",
        "findings.mine",
        "charters.compare",
        "search",
    }
)
