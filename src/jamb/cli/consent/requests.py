"""Requests for consent: make one, see what waits, decide it, take it back."""

from __future__ import annotations

from itertools import islice
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant, whole_id
from jamb.cli.base.options import ChosenOption, DelegatedOption, UntilOption, chosen_asks, moment_of, reach_by_resource
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    fields,
    heading,
    note,
    out,
    relative,
)
from jamb.cli.base.output import table as print_table
from jamb.cli.consent.consent import OutsideOption, WithinOption, show_preview
from jamb.cli.consent.rightsize import held_words, show_dry_run
from jamb.cli.resources.resources import show_change
from jamb.client import BadInput, Jamb
from jamb.core.errors import NotFound
from jamb.wire.consent.consent import Terms
from jamb.wire.consent.requests import ConsentRequest, RequestDossier

app = typer.Typer(no_args_is_help=True)
# Of those that are over, the latest.
_LOOKED_AT = 500
RequestArgument = Annotated[
    str, typer.Argument(metavar="REQUEST", help="Its id, how that begins, or the whole name of its client")
]


@app.command("list")
def list_requests(
    past: Annotated[bool, typer.Option("--past", help="Those that were decided, taken back or lapsed")] = False,
    output: Output = Form.TABLE,
) -> None:
    """List the requests that wait, the one due first before the others."""
    with connected() as jamb:
        found = list(jamb.requests.list(waiting=not past))

    def show() -> None:
        if not found:
            out.print("No request waits." if not past else "No request was decided yet.")
            return
        print_table(
            ["id", "client", "asks for", "weight", "by", "due" if not past else "ended", "state"],
            [
                [
                    str(one.id),
                    one.client_name,
                    one.act or ("less: " if one.rightsizes else "") + ", ".join(one.asks),
                    f"{one.weight:g}",
                    one.requested_by,
                    relative(one.due_at if not past else one.decided_at or one.due_at),
                    _state(one),
                ]
                for one in found
            ],
            right=["weight"],
        )

    emit(found, output, show)


@app.command()
def show(request: RequestArgument, output: Output = Form.TABLE) -> None:
    """Show one request, and what granting it would make possible now."""
    with connected() as jamb:
        found = jamb.requests.read(_find(jamb, request, past=True).id)
    emit(found, output, lambda: _show(found))


@app.command()
def make(
    client: ClientArgument,
    reason: Annotated[str, typer.Option(help="Why it is needed, for whoever decides")],
    only: ChosenOption = None,
    delegated: DelegatedOption = False,
    answer: Annotated[
        list[str] | None, typer.Option(help="RESOURCE:ANSWER to its questions, in their order; may be given again")
    ] = None,
    accept_terms: Annotated[bool, typer.Option("--accept-terms", help="Accept the resources' terms")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Ask an approver to consent to what waits. Says which questions and terms a resource has."""
    answers: dict[str, list[str]] = {}
    for one in answer or []:
        resource, colon, reply = one.partition(":")
        if not colon:
            raise BadInput.field("--answer", one, "RESOURCE:ANSWER, as crew:Renewals")
        answers.setdefault(resource, []).append(reply.strip())
    with connected() as jamb:
        found = jamb.clients.find(client)
        chosen = None
        if only:
            chosen = chosen_asks(jamb.consent.preview(found.id), only, delegated=delegated)
        made = jamb.requests.make(found.id, reason, asks=chosen, answers=answers, terms_accepted=accept_terms)

    def said() -> None:
        out.print(f"Requested {', '.join(made.asks)} for “{made.client_name}”.", markup=False)
        note(f"It waits until {made.due_at:%Y-%m-%d %H:%M} UTC for {made.approvers} to say yes; id {made.id}")

    emit(made, output, said)


@app.command()
def grant(
    request: RequestArgument,
    within: WithinOption = None,
    outside: OutsideOption = None,
    until: UntilOption = None,
    words: Annotated[str, typer.Option(help="For whoever asked")] = "",
    force: Annotated[
        bool,
        typer.Option("--force", help="Of a request for less: before its time is over, or although calls were missed"),
    ] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Say yes to a request, narrower if you will, after showing what it makes possible."""
    reach = reach_by_resource(within, outside)
    ends = moment_of("--until", until)
    terms = Terms(reach=reach, expires_at=ends) if reach or ends is not None else None
    with connected() as jamb:
        found = jamb.requests.read(_find(jamb, request).id)
        if output is Form.TABLE:
            if terms is not None and found.preview is not None:
                asks = [ask.id for place in found.preview.resources for ask in place.asks]
                seen = jamb.consent.preview(found.request.client_id, asks=asks, terms=terms)
                found = RequestDossier(request=found.request, preview=seen)
            _show(found)
            confirm(f"Say yes to {found.request.subject or f'“{found.request.client_name}”'}?", yes)
        decided = jamb.requests.grant(found.request.id, terms=terms, words=words, force=force)

    def said() -> None:
        if decided.state == "granted":
            granted = f"Agreed; {decided.outcome}." if decided.act else f"Granted to “{decided.client_name}”."
            out.print(Text(granted, style="green"))
        else:
            out.print("Your yes is kept; another approver must say yes to the same.")

    emit(decided, output, said)


@app.command()
def decline(
    request: RequestArgument,
    words: Annotated[str, typer.Option(help="Why not, for whoever asked")],
    output: Output = Form.TABLE,
) -> None:
    """Decline a request, with words."""
    with connected() as jamb:
        decided = jamb.requests.decline(_find(jamb, request).id, words)
    emit(
        decided, output, lambda: out.print(f"Declined; {decided.requested_by} reads why on their Today.", markup=False)
    )


@app.command()
def withdraw(request: RequestArgument, output: Output = Form.TABLE) -> None:
    """Take a waiting request back."""
    with connected() as jamb:
        found = _find(jamb, request)
        ended = jamb.requests.withdraw(found.client_id, found.id)
    emit(ended, output, lambda: out.print("Taken back.", markup=False))


def _find(jamb: Jamb, reference: str, *, past: bool = False) -> ConsentRequest:
    """Return the request that is meant, of those that wait; with `past` of the latest others, where none waits."""

    if (whole := whole_id(reference)) is not None:
        return jamb.requests.read(whole).request

    def names(one: ConsentRequest) -> list[str]:
        return [one.client_name] if one.client_name else []

    known = list(jamb.requests.list())
    try:
        return meant(known, reference, names, noun="request that waits", see="jamb requests list")
    except NotFound:
        if not past:
            raise
    decided = islice(jamb.requests.list(waiting=False), _LOOKED_AT)
    return meant([*known, *decided], reference, names, noun="request", see="jamb requests list --past")


def _state(one: ConsentRequest) -> Text:
    style = {"waiting": "yellow", "granted": "green", "declined": "red"}.get(one.state, "dim")
    said = str(one.state)
    if one.state == "waiting" and one.approvals:
        said = f"{len(one.approvals)} of {one.approvers} said yes"
    return Text(said, style=style)


def _show(found: RequestDossier) -> None:
    one = found.request
    less = "less, " if one.rightsizes else ""
    what = one.act or f"{less}{', '.join(one.asks)}"
    about = one.subject if one.act else f"“{one.client_name}”"
    heading(f"{one.requested_by} asks for {about}: {what}")
    fields(
        [
            ("why", one.why or one.reason),
            ("asked", relative(one.requested_at)),
            ("due", f"{relative(one.due_at)}, then it lapses"),
            ("state", _state(one)),
            *((answer.question, answer.answer) for answer in one.answers),
            *((f"{approval.approver} said yes", approval.said or relative(approval.at)) for approval in one.approvals),
            *((detail.label.lower(), detail.value) for detail in found.details),
            *([("could decide", ", ".join(one.could))] if one.could else []),
            *([(f"{one.decided_by} said", one.said)] if one.decided_by and one.said else []),
            *([("what became of it", one.outcome)] if one.outcome else []),
        ]
    )
    if found.preview is not None:
        out.print("")
        show_preview(found.preview)
    if found.change is not None:
        out.print("")
        show_change(found.change)
    if found.rightsized is not None:
        out.print("")
        show_dry_run(found.rightsized.dry_run)
        fields(
            [
                ("instead of", held_words(found.rightsized.dry_run.before)),
                ("no longer", ", ".join(found.rightsized.no_longer) or "nothing"),
                ("for fewer", ", ".join(found.rightsized.narrower) or "nothing"),
            ]
        )
