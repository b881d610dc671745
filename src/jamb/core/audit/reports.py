"""Findings as others read them: SARIF 2.1.0 (OASIS), CSV (RFC 4180), and one JSON object a line."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from hashlib import sha256
from typing import Any

from jamb.core.audit.findings import RemedyKind, Rule, Severity

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"
_LEVEL = {Severity.LOW: "note", Severity.MEDIUM: "warning", Severity.HIGH: "error"}


_MEDIA_TYPES = {
    "sarif": "application/sarif+json",
    "csv": "text/csv; charset=utf-8",
    "jsonl": "application/jsonl",
    "html": "text/html; charset=utf-8",
}


class ReportForm(StrEnum):
    SARIF = "sarif"
    CSV = "csv"
    JSONL = "jsonl"
    HTML = "html"

    @property
    def media_type(self) -> str:
        return _MEDIA_TYPES[self.value]


@dataclass(frozen=True, slots=True)
class Reported:
    """A finding with its history. `waived_until`: it is waived until then."""

    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: Mapping[str, str]
    remedy: str
    act: RemedyKind
    target: str
    first_seen_at: datetime
    returned: int
    waived_until: datetime | None
    waived_by: str
    waived_reason: str
    assigned_to: str
    note: str = ""
    answer: str = ""

    @property
    def fingerprint(self) -> str:
        return fingerprint(self.rule, self.client_id, self.subject)


def fingerprint(rule: str, client_id: str, subject: str) -> str:
    """Return what identifies a finding over time and in every report: 32 hexadecimal digits."""
    return sha256("\0".join((rule, client_id, subject)).encode()).hexdigest()[:32]


def report(
    form: ReportForm, place: str, version: str, rules: Sequence[Rule], found: Iterable[Reported], now: datetime
) -> str:
    """Return a report for programs.

    Args:
        form: any but the page, which `report_page` makes up.
        place: the directory that was audited, in words fit for an identifier.
    """
    writers: dict[ReportForm, Callable[[], str]] = {
        ReportForm.SARIF: lambda: _sarif(place, version, rules, found, now),
        ReportForm.CSV: lambda: _csv(found),
        ReportForm.JSONL: lambda: "".join(json.dumps(_plain(one), ensure_ascii=False) + "\n" for one in found),
    }
    return writers[form]()


def fingerprints_in(text: str) -> frozenset[str]:
    """Return the findings that an earlier report names: SARIF, JSON lines, or the JSON of the audit.

    Raises:
        ValueError: it is none of these.
    """
    try:
        document = json.loads(text)
    except ValueError:
        rows = [json.loads(line) for line in text.splitlines() if line.strip()]
    else:
        if isinstance(document, dict) and "runs" in document:
            results = [one for run in document["runs"] for one in run.get("results", ())]
            return frozenset(one["partialFingerprints"][_FINGERPRINT] for one in results)
        rows = document["findings"] if isinstance(document, dict) and "findings" in document else [document]
    try:
        return frozenset(fingerprint(one["rule"], one["client_id"], one["subject"]) for one in rows)
    except (KeyError, TypeError) as error:
        raise ValueError("no findings in it") from error


_FINGERPRINT = "registrationFinding/v1"


def _sarif(place: str, version: str, rules: Sequence[Rule], found: Iterable[Reported], now: datetime) -> str:
    order = {rule.id: index for index, rule in enumerate(rules)}
    run = {
        "tool": {"driver": {"name": "Jamb", "semanticVersion": version, "rules": [_rule(rule) for rule in rules]}},
        "automationDetails": {"id": f"registrations/{place}/"},
        "invocations": [{"executionSuccessful": True, "endTimeUtc": now.strftime("%Y-%m-%dT%H:%M:%SZ")}],
        "columnKind": "unicodeCodePoints",
        "results": [_result(one, order) for one in found],
    }
    return json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=False) + "\n"


def _rule(rule: Rule) -> dict[str, Any]:
    return {
        "id": rule.id,
        "name": "".join(part.capitalize() for part in rule.id.split("-")),
        "shortDescription": {"text": rule.title},
        "fullDescription": {"text": rule.why},
        "help": {"text": f"{rule.why} {rule.when} {rule.how_bad} {rule.reference}."},
        "properties": {"tags": [rule.family.value]},
    }


def _result(one: Reported, order: Mapping[str, int]) -> dict[str, Any]:
    place = {"name": one.client_name, "fullyQualifiedName": one.client_id, "kind": "resource"}
    result: dict[str, Any] = {
        "ruleId": one.rule,
        "ruleIndex": order[one.rule],
        "level": _LEVEL[one.severity],
        "message": {"text": f"{one.client_name}: {one.title}. {one.remedy}"},
        "locations": [{"logicalLocations": [place]}],
        "partialFingerprints": {_FINGERPRINT: one.fingerprint},
        "properties": {
            "subject": one.subject,
            "evidence": dict(one.evidence),
            "act": one.act.value,
            "target": one.target,
            "firstSeen": one.first_seen_at.isoformat(timespec="seconds"),
            "returned": one.returned,
        },
    }
    if one.waived_until is not None:
        said = f"{one.waived_by}, until {one.waived_until:%Y-%m-%d}: {one.waived_reason}"
        result["suppressions"] = [{"kind": "external", "status": "accepted", "justification": said}]
    return result


_COLUMNS = (
    "fingerprint",
    "severity",
    "rule",
    "client_id",
    "client_name",
    "subject",
    "title",
    "remedy",
    "act",
    "target",
    "first_seen_at",
    "returned",
    "waived_until",
    "waived_by",
    "waived_reason",
    "assigned_to",
    "note",
    "answer",
    "evidence",
)


def _csv(found: Iterable[Reported]) -> str:
    made = io.StringIO()
    writer = csv.DictWriter(made, _COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    for one in found:
        plain = _plain(one) | {"evidence": "; ".join(f"{name}: {value}" for name, value in one.evidence.items())}
        # Spreadsheets take what begins so for a formula.
        writer.writerow(
            {name: f"'{value}" if str(value)[:1] in {*"=+-@\t"} else value for name, value in plain.items()}
        )
    return made.getvalue()


def _plain(one: Reported) -> dict[str, Any]:
    return {
        "fingerprint": one.fingerprint,
        "severity": one.severity.word,
        "rule": one.rule,
        "client_id": one.client_id,
        "client_name": one.client_name,
        "subject": one.subject,
        "title": one.title,
        "remedy": one.remedy,
        "act": one.act.value,
        "target": one.target,
        "first_seen_at": one.first_seen_at.isoformat(timespec="seconds"),
        "returned": one.returned,
        "waived_until": one.waived_until.isoformat(timespec="seconds") if one.waived_until is not None else "",
        "waived_by": one.waived_by,
        "waived_reason": one.waived_reason,
        "assigned_to": one.assigned_to,
        "note": one.note,
        "answer": one.answer,
        "evidence": dict(one.evidence),
    }
