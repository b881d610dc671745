"""How the command line speaks: tables for people, JSON for programs, problems on standard error.

Exit codes: 0 done; 1 the audit, the ledger or the leak check found something, or what was asked about is refused;
2 what was given is not acceptable; 3 not signed in, or not allowed; 4 the service or its database does not answer;
130 interrupted.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable, Sequence
from datetime import UTC, datetime
from enum import StrEnum
from typing import Annotated, Any, NoReturn

import typer
from rich.cells import cell_len
from rich.console import Console
from rich.table import Table
from rich.text import Text

from jamb.core.errors import Forbidden, JambError, NotSignedIn, WorldFailure
from jamb.core.text import escaped, visible_lines

# Between two columns.
_GAP = 2
# So wide is a column at least whose words may be broken.
_FREE = 20
EXIT_FOUND, EXIT_INPUT, EXIT_REFUSED, EXIT_WORLD = 1, 2, 3, 4


class Form(StrEnum):
    TABLE = "table"
    JSON = "json"


Output = Annotated[Form, typer.Option("--output", "-o", help="table for people, json for programs")]
IfMatchOption = Annotated[
    str | None,
    typer.Option("--if-match", metavar="VERSION", help="Only if it has this `version` still, as -o json shows it"),
]
ClientArgument = Annotated[str, typer.Argument(metavar="CLIENT", help="A client id, or the whole name")]
YesOption = Annotated[bool, typer.Option("--yes", "-y", help="Do not ask")]


class _Seen(Console):
    """A terminal to which nothing is written that is not seen: whoever named a thing does not steer the terminal."""

    def render_str(self, text: str, **given: Any) -> Text:
        return super().render_str(visible_lines(text), **given)

    def print(self, *objects: Any, **given: Any) -> None:
        super().print(*(_seen(one) for one in objects), **given)


def _seen(value: Any) -> Any:
    if isinstance(value, str):
        return visible_lines(value)
    if isinstance(value, Text) and value.plain != (plain := visible_lines(value.plain)):
        return Text(plain, style=value.style)
    return value


out = _Seen(highlight=False)
err = _Seen(stderr=True, highlight=False)


def emit(value: Any, form: Form, show: Callable[[], None]) -> None:
    """Print the value as JSON, or let `show` speak to people."""
    if form is Form.JSON:
        # Within a string of JSON what is not seen is written as its escape: the same value, and nothing that steers.
        print(escaped(json.dumps(_plain(value), indent=2, ensure_ascii=False)))
    else:
        show()


def table(
    columns: Sequence[str], rows: Iterable[Sequence[str | Text]], *, right: Sequence[str] = (), free: Sequence[str] = ()
) -> None:
    """Print rows under quiet headings, or each as a record where the terminal is too narrow for them.

    No word is broken: an id or a permission that is folded cannot be copied.

    Args:
        right: columns of numbers. free: columns of nothing that is copied, whose long words may be broken.
    """
    shown = [[_seen(cell) for cell in row] for row in rows]
    cells = list(zip(columns, *shown, strict=True))
    room = out.width - _GAP * len(columns)
    least = [
        min(_FREE, longest) if name in free else longest
        for name, longest in zip(columns, (max(map(_longest_word, column)) for column in cells), strict=True)
    ]
    widths = _widths(least, [_whole(column) for column in cells], room)
    if shown and widths is None:
        for number, row in enumerate(shown):
            if number:
                out.print()
            fields(zip(columns, row, strict=True))
        return
    made = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), header_style="dim")
    for column, width in zip(columns, widths or (None for _ in columns), strict=True):
        made.add_column(column, justify="right" if column in right else "left", overflow="fold", width=width)
    for row in shown:
        made.add_row(*row)
    out.print(made)


def _widths(least: list[int], wanted: list[int], room: int) -> list[int] | None:
    """Return how wide each column is: the widest give way first, none below its least. None: there is no room."""
    if sum(least) > room:
        return None
    widths = [min(width, room) for width in wanted]
    while sum(widths) > room:
        widest = max((n for n, width in enumerate(widths) if width > least[n]), key=lambda n: widths[n])
        widths[widest] -= 1
    return widths


def _longest_word(cell: str | Text) -> int:
    return max(map(cell_len, str(cell).split()), default=0)


def _whole(column: Iterable[str | Text]) -> int:
    return max(cell_len(line) for cell in column for line in [*str(cell).splitlines(), ""])


def fields(pairs: Iterable[tuple[str, str | Text]]) -> None:
    made = Table(box=None, pad_edge=False, padding=(0, _GAP, 0, 0), show_header=False)
    made.add_column(style="dim", no_wrap=True)
    made.add_column(overflow="fold")
    for name, value in pairs:
        made.add_row(name, _seen(value))
    out.print(made)


def heading(text: str) -> None:
    out.print(Text(text, style="bold"))


def note(text: str) -> None:
    """Say something beside the result, where a pipe does not carry it."""
    err.print(Text(text, style="dim"))


def plural(word: str) -> str:
    """Return the plural of what a resource calls its objects: berths, mailboxes, deliveries."""
    if word.endswith(("s", "x", "ch", "sh")):
        return word + "es"
    if word.endswith("y") and word[-2:-1] not in "aeiou":
        return word[:-1] + "ies"
    return word + "s"


def relative(moment: datetime | None, missing: str = "never") -> str:
    """Return a moment as people say it: "in 9 days", "3 hours ago"."""
    if moment is None:
        return missing
    seconds = (moment - datetime.now(UTC)).total_seconds()
    size = abs(seconds)
    for unit, length in (("day", 86400), ("hour", 3600), ("minute", 60)):
        if size >= length:
            # A hundredth more, so that what was just given 90 days does not say 89.
            count = int(size / length + 0.01)
            words = f"{count:,} {unit}{'' if count == 1 else 's'}"
            return f"in {words}" if seconds > 0 else f"{words} ago"
    return "now"


def confirm(question: str, yes: bool) -> None:
    """Ask before what cannot be undone; without a terminal, `--yes` must say so."""
    if yes:
        return
    if not sys.stdin.isatty():
        err.print("Nothing was changed: there is no terminal to ask on. Add --yes if you mean it.")
        raise typer.Exit(EXIT_INPUT)
    if not typer.confirm(visible_lines(question), default=False, err=True):
        err.print("Nothing was changed.")
        raise typer.Exit(0)


# What fields of the API, and arguments of the library, are called here.
OPTIONS = {
    "redirect_uris": "--redirect",
    "post_logout_redirect_uris": "--after-sign-out",
    "backchannel_logout_uri": "--tell-sign-outs",
    "sign_in_groups": "--only-group",
    "trial_ends_at": "--trial-until",
    "logo": "--logo",
    "support_contact": "--support",
    "client_uri": "--home-page",
    "policy_uri": "--privacy-policy",
    "tos_uri": "--terms-of-use",
    "grant_types": "--grant-type",
    "expires_at": "--until",
    "overlap_days": "--overlap",
    "asks": "--ask",
    "owners": "--owner",
    **{name: f"--{name}" for name in ("name", "purpose", "publisher", "days", "reason", "title", "level", "kept")},
    "reach": "--in or --except",
}


def option_of(field: str) -> str:
    """Return by which option a field of the API was said; with its place where there are several."""
    name, _, rest = field.partition(".")
    if rest and not rest.isdigit() and name != "reach":
        # In a file: there it is called so.
        return field
    place = f" ({int(rest) + 1})" if rest.isdigit() else ""
    return OPTIONS.get(name, name) + place


def in_short(error: JambError) -> str:
    """Return what an error says in a line of a table: what was wrong, and what to do."""
    told = [f"{one.sent}: allowed is {one.allowed}. {one.next_step}" for one in error.violations] or [error.message]
    return " ".join(" ".join((*told, error.next_step)).split())


def fail(error: JambError) -> NoReturn:
    """Print a problem and leave with its exit code: to people on standard error, to programs as a problem document."""
    if _wants_json(sys.argv):
        from jamb.wire.base.problems import problem_of  # noqa: PLC0415 - its models: help and completion need none

        print(escaped(json.dumps(problem_of(error).model_dump(mode="json"), indent=2, ensure_ascii=False)))
        raise SystemExit(_exit_code(error))
    # What is wrong with one field alone is said with it, and once.
    told = [violation for violation in error.violations if error.message == f"{violation.field}: {violation.allowed}"]
    if not told:
        err.print(Text("✗ ", style="red").append(error.message, style="bold default"))
    for violation in error.violations:
        mark = Text("✗ ", style="red") if told and violation is told[0] else Text("  ")
        said = f"{option_of(violation.field)}: sent {violation.sent}; allowed: {violation.allowed}"
        err.print(mark.append(visible_lines(said), style="default"))
        if violation.next_step:
            err.print(f"    {violation.next_step}", markup=False)
    if error.next_step:
        err.print(f"  {error.next_step}", markup=False)
    raise SystemExit(_exit_code(error))


def _wants_json(words: Sequence[str]) -> bool:
    pairs = zip(words, [*words[1:], ""], strict=True)
    return any(
        (word in {"-o", "--output"} and value == Form.JSON) or word in {f"-o{Form.JSON}", f"--output={Form.JSON}"}
        for word, value in pairs
    )


def _exit_code(error: JambError) -> int:
    if isinstance(error, WorldFailure):
        return EXIT_WORLD
    return EXIT_REFUSED if isinstance(error, (NotSignedIn, Forbidden)) else EXIT_INPUT


def _plain(value: Any) -> Any:
    if hasattr(value, "model_dump"):
        return value.model_dump(mode="json")
    if isinstance(value, (list, tuple)):
        return [_plain(item) for item in value]
    if isinstance(value, dict):
        return {name: _plain(item) for name, item in value.items()}
    return value
