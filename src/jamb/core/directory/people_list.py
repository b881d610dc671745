"""People from a CSV file (RFC 4180): login, name and, separated by semicolons, groups and roles."""

from __future__ import annotations

import csv
import re
from dataclasses import dataclass

from jamb.core.errors import BadInput, Violation, shorten
from jamb.core.text import NAME, name_fault

COLUMNS = ("login", "name", "groups", "roles")
MOST_PEOPLE = 10_000
# RFC 5322 section 3.2.3 and RFC 1123 section 2.1, in lower case: what looks like another's login is none.
LOGIN = re.compile(
    r"(?=.{1,64}@)[a-z0-9!#$%&'*+/=?^_`{|}~-]+(?:\.[a-z0-9!#$%&'*+/=?^_`{|}~-]+)*"
    r"@(?=.{1,190}\Z)[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?)*\Z"
)
NAME_LONGEST = 120
PASSWORD_SHORTEST = 10


@dataclass(frozen=True, slots=True)
class ListedPerson:
    login: str
    name: str
    groups: tuple[str, ...]
    roles: tuple[str, ...]


def read_people(text: str) -> tuple[ListedPerson, ...]:
    """Return the people of a file whose first line names the columns; login and name are needed.

    Raises:
        BadInput: an unknown or missing column, or an unfit line; all are named by their line.
    """
    rows = list(csv.reader(text.lstrip("\ufeff").splitlines()))
    header = [cell.strip().lower() for cell in rows[0]] if rows else []
    missing = [name for name in COLUMNS[:2] if name not in header]
    unknown = [name for name in header if name not in COLUMNS]
    if missing or unknown:
        sent = ", ".join(header) or "nothing"
        raise BadInput.field("csv", sent, f"columns of {', '.join(COLUMNS)}; login and name are needed")
    if len(rows) - 1 > MOST_PEOPLE:
        raise BadInput.field("csv", f"{len(rows) - 1} lines", f"at most {MOST_PEOPLE}", "Split the file.")
    found: dict[str, ListedPerson] = {}
    violations: list[Violation] = []
    for number, row in enumerate(rows[1:], 2):
        if not any(cell.strip() for cell in row):
            continue
        cells = dict(zip(header, (cell.strip() for cell in row), strict=False))
        login, name = cells.get("login", "").lower(), " ".join(cells.get("name", "").split())
        violations.extend(_faults(number, login, name))
        if login in found:
            violations.append(Violation(f"line {number}", shorten(login), "each login once"))
        found[login] = ListedPerson(login, name, _several(cells.get("groups", "")), _several(cells.get("roles", "")))
    if violations:
        raise BadInput("This file cannot be taken in; nothing was changed.", violations=tuple(violations[:20]))
    if not found:
        raise BadInput.field("csv", "no people", "at least one line below the columns")
    return tuple(found.values())


def check_person(login: str, name: str) -> None:
    """Raise `BadInput` unless login and name are fit for a person."""
    violations = tuple(_faults(0, login, name))
    if violations:
        raise BadInput("This person cannot be saved as it is.", violations=violations)


def _faults(number: int, login: str, name: str) -> list[Violation]:
    line = f"line {number}" if number else ""
    faults = []
    if not LOGIN.match(login):
        faults.append(
            Violation(line or "login", shorten(login), "a login like an address, name@domain, in mails of ASCII")
        )
    if not 1 <= len(name) <= NAME_LONGEST or name_fault(name):
        allowed = f"a name of 1 to {NAME_LONGEST} {NAME}"
        faults.append(Violation(line or "name", shorten(name), allowed))
    return faults


def _several(cell: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(part.strip() for part in cell.split(";") if part.strip()))
