"""Access reviews: start one, see how far it is, answer, close it, carry the answers out."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant
from jamb.cli.base.options import ExceptOption, OnlyOption, reach_of
from jamb.cli.base.output import Form, Output, YesOption, confirm, emit, heading, note, out, relative, table
from jamb.client import Jamb
from jamb.core.audit.reviews import Answer
from jamb.core.permissions import DataClass
from jamb.wire.audit.reviews import Review, ReviewItem

app = typer.Typer(no_args_is_help=True)
ReviewArgument = Annotated[str, typer.Argument(metavar="REVIEW", help="Its name, or how its id begins")]
_SHORT = 8


class OwnersAnswer(StrEnum):
    """What may be said, of all that an answer can be."""

    CONFIRM = Answer.CONFIRM.value
    NARROW = Answer.NARROW.value
    GIVE_UP = Answer.GIVE_UP.value


@app.command()
def start(
    name: Annotated[str, typer.Option(help="What it is called")],
    days: Annotated[int, typer.Option(help="How long owners have")] = 21,
    resource: Annotated[str, typer.Option(help="Only what is held at this resource")] = "",
    data: Annotated[
        DataClass, typer.Option(help="Only what opens data of this class or a graver one")
    ] = DataClass.OPEN,
    client: Annotated[list[str] | None, typer.Option(help="Only this client; may be given again")] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say whom it would ask, and start nothing")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Ask owners about every grant and role in its scope."""
    with connected() as jamb:
        clients = [jamb.clients.find(one).id for one in client or []]
        seen = jamb.reviews.preview(resource=resource, data=data, clients=clients)
        if dry_run:
            emit(
                seen, output, lambda: out.print(f"{seen.items} grants of {seen.clients} clients, {seen.owners} owners.")
            )
            return
        made = jamb.reviews.start(name, days=days, resource=resource, data=data, clients=clients)
    if seen.ownerless:
        note(f"Nobody can be asked about {', '.join(seen.ownerless)}: stewards answer for these.")
    emit(made, output, lambda: out.print(f"{seen.owners} owners have until {made.ends_at:%Y-%m-%d}: {made.about}."))


@app.command("list")
def list_reviews(
    find: Annotated[str | None, typer.Option(help="Part of the name")] = None, output: Output = Form.TABLE
) -> None:
    """List reviews, the latest first."""
    with connected() as jamb:
        found = list(jamb.reviews.list(q=find))
    names = ["waiting", *(one.value for one in Answer if one.value)]

    def show_all() -> None:
        table(
            ["id", "name", "about", *names, "done", "expires"],
            [
                [
                    str(one.id)[:_SHORT],
                    one.name,
                    one.about,
                    *(str(one.answers.get(name, 0)) for name in names),
                    str(one.done),
                    f"closed {relative(one.closed_at)}" if one.closed_at else relative(one.ends_at),
                ]
                for one in found
            ],
            right=[*names, "done"],
        )

    emit(found, output, show_all)


@app.command()
def show(review: ReviewArgument, output: Output = Form.TABLE) -> None:
    """Show every item of a review with its use and its answer."""
    with connected() as jamb:
        found = _find(jamb, review)
        items = list(jamb.reviews.items(found.id))
    shown = found.model_dump(mode="json") | {"items": [one.model_dump(mode="json") for one in items]}
    emit(shown, output, lambda: _show_items(items))


@app.command()
def mine(output: Output = Form.TABLE) -> None:
    """Show what one is asked about one's own clients."""
    with connected() as jamb:
        found = jamb.reviews.mine()

    def show_all() -> None:
        if not found:
            out.print("Nothing is asked of you.")
        for one in found:
            heading(f"{one.review.name}, until {one.review.ends_at:%Y-%m-%d}")
            _show_items(one.items)

    emit(found, output, show_all)


@app.command()
def answer(
    review: ReviewArgument,
    item: Annotated[str, typer.Argument(metavar="ITEM", help="How the item's id begins")],
    said: Annotated[OwnersAnswer, typer.Argument(metavar="ANSWER", help="confirm, narrow or give-up")],
    words: Annotated[str, typer.Option("--note", help="A word about it")] = "",
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Answer for one grant or role. To narrow one, say where it would do by --in or --except."""
    with connected() as jamb:
        asked = [(one.review.id, row) for one in jamb.reviews.mine() for row in one.items]
        if not any(str(row.id).startswith(item) for _, row in asked):
            found = _find(jamb, review)
            asked = [(found.id, row) for row in jamb.reviews.items(found.id)]
        chosen = meant(asked, item, noun="item", see="jamb reviews mine", key=lambda pair: pair[1].id)
        done = jamb.reviews.answer(*chosen, Answer(said), words=words, narrower=reach_of(only, all_but))
    emit(done, output, lambda: _show_items([done]))


@app.command()
def close(review: ReviewArgument, yes: YesOption = False, output: Output = Form.TABLE) -> None:
    """Close a review before its end. What nobody answered is proposed for withdrawal; nothing is withdrawn by that."""
    with connected() as jamb:
        found = _find(jamb, review)
        confirm(f"Close “{found.name}” with {found.answers.get('waiting', 0)} without an answer?", yes)
        done = jamb.reviews.close(found.id)
    emit(done, output, lambda: out.print(f"Closed; {done.answers.get('proposed', 0)} are proposed for withdrawal."))


@app.command("carry-out")
def carry_out(
    review: ReviewArgument,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Show what would be done, and do nothing")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Make the answers so: end what was given up or proposed, narrow what is to be narrowed."""
    with connected() as jamb:
        found = _find(jamb, review)
        wanted = (Answer.NARROW, Answer.GIVE_UP, Answer.PROPOSED)
        waiting = [one for answer in wanted for one in jamb.reviews.items(found.id, answer) if one.done_at is None]
        if dry_run or not waiting:
            emit(waiting, output, lambda: _show_items(waiting))
            return
        confirm(f"Carry out {len(waiting)} answers?", yes)
        done = jamb.reviews.carry_out(found.id)

    def show_all() -> None:
        out.print(f"{len(done.done)} carried out.")
        names = {one.id: f"{one.client_name}, {one.permission}" for one in waiting}
        for one in done.failed:
            out.print(f"  {names[one.item]}: {one.why}", markup=False)

    emit(done, output, show_all)
    if done.failed:
        raise typer.Exit(2)


def _find(jamb: Jamb, reference: str) -> Review:
    return meant(list(jamb.reviews.list()), reference, lambda one: {one.name}, noun="review", see="jamb reviews list")


def _show_items(items: list[ReviewItem]) -> None:
    if not items:
        out.print("Nothing.")
        return
    table(
        ["id", "client", "holds", "where", "used", "answer"],
        [
            [str(one.id)[:_SHORT], one.client_name, _held(one), one.reach.words, _used(one), _answer(one)]
            for one in items
        ],
    )


def _held(one: ReviewItem) -> str:
    way = f" by {one.through}" if one.through else ""
    return f"{one.resource}: {one.permission}{way}"


def _used(one: ReviewItem) -> str | Text:
    if one.used == "used":
        return f"{relative(one.last_used_at)}, {len(one.uses)} of {len(one.opens)}"
    return Text("never", style="red") if one.used in {"never", "lapsed"} else "too early to say"


def _answer(one: ReviewItem) -> str:
    if not one.answer:
        return "waits"
    where = f" to {one.narrower.words}" if one.narrower is not None else ""
    words = f": {one.words}" if one.words else ""
    return f"{one.answer}{where}{words}" + (", done" if one.done_at else "")
