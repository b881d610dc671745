"""What waits, what expires, what is wrong: the day in a few lines."""

from __future__ import annotations

from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, Output, emit, heading, out, relative, table


def today(output: Output = Form.TABLE) -> None:
    """Say what waits for consent, which credentials expire next, and what the audit finds."""
    with connected() as jamb:
        found = jamb.today()

    def show() -> None:
        excess = "too early to say" if found.excess is None else f"{found.excess:.0%}"
        findings = ", ".join(f"{count} {word}" for word, count in found.findings.items() if count) or "none"
        out.print(f"{found.clients} clients; findings: {findings}; excess (granted and not used, by weight): {excess}")
        if found.requests:
            more = found.requests_in_all - len(found.requests)
            heading(
                "\nRequests for you or another approver" + (f", and {more} more: jamb requests list" if more else "")
            )
            table(
                ["client", "asks for", "by", "due"],
                [
                    [one.client_name, ", ".join(one.asks), one.requested_by, relative(one.due_at)]
                    for one in found.requests
                ],
            )
        for one in found.decided:
            said = f" {one.decided_by}: {one.said}" if one.said else ""
            out.print(f"Your request for “{one.client_name}” is {one.state}.{said}", markup=False)
        more = found.waiting_in_all - len(found.waiting)
        heading("\nWaiting for consent" + (f", and {more} more: jamb clients list --attention waiting" if more else ""))
        table(
            ["client", "asks for", "since"],
            [[one.client_name, ", ".join(one.permissions), relative(one.since)] for one in found.waiting],
        )
        soonest = [one for week in found.horizon for one in week.first][:8]
        heading("\nCredentials that expire next")
        table(
            ["client", "credential", "expires", "last used"],
            [[one.client_name, one.hint, relative(one.ends), relative(one.last_used_at)] for one in soonest],
        )

    emit(found, output, show)
