"""The audit: a directory's posture, findings with their history, reports for other tools, waivers and assignments."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Depends, Query, Request, Response

from jamb.actions.audit import findings as audit
from jamb.actions.audit import posture
from jamb.actions.base.act import Act
from jamb.core.audit.evaluate import RULES
from jamb.core.audit.findings import Severity
from jamb.core.audit.reports import ReportForm
from jamb.core.errors import BadInput
from jamb.core.lists import ExcessBy, GroupBy, Which
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, bad_cursor, onward, unpack
from jamb.service.http.routing import api_router
from jamb.service.reports import write_report
from jamb.store.audit.findings import Wanted
from jamb.wire.audit import audit as wire
from jamb.wire.base.shapes import Page

router = api_router("/api/v1/directories/{directory}/audit", tags=["audit"])
_ONE = "/findings/{finding}"


def _wanted(
    which: Which = Which.OPEN,
    severity: wire.Severity | None = None,
    min_severity: Annotated[wire.Severity | None, Query(description="This bad or worse")] = None,
    rule: Annotated[str, Query(max_length=80)] = "",
    client: Annotated[str, Query(max_length=80)] = "",
    owner: Annotated[
        str,
        Query(
            max_length=40,
            description="Id of a person, or none: clients without owners",
            json_schema_extra={"pattern": r"^(|none|[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12})$"},
        ),
    ] = "",
    assigned: Annotated[UUID | None, Query(description="Id of the person who sees to it")] = None,
    q: Annotated[str, Query(max_length=100, description="Part of its title or of the client's name")] = "",
    begins: Annotated[
        str, Query(max_length=36, description="How its id begins", json_schema_extra={"pattern": r"^[0-9a-f]{0,32}$"})
    ] = "",
) -> Wanted:
    try:
        person = UUID(owner) if owner not in {"", "none"} else None
    except ValueError as error:
        raise BadInput.field("owner", owner, "the id of a person, or none") from error
    return Wanted(
        which,
        _rank(severity),
        _rank(min_severity),
        rule,
        client,
        person,
        owner == "none",
        assigned,
        q,
        _between(begins),
    )


def _between(begins: str) -> tuple[UUID, UUID] | None:
    """Return the first and the last id that begin so."""
    digits = begins.replace("-", "").lower()
    if not digits:
        return None
    try:
        return UUID(digits.ljust(32, "0")), UUID(digits.ljust(32, "f"))
    except ValueError as error:
        raise BadInput.field("begins", begins, "the beginning of a finding's id: 0 to 9, a to f") from error


def _rank(severity: wire.Severity | None) -> int | None:
    return int(Severity[severity.name]) if severity is not None else None


WantedFindings = Annotated[Wanted, Depends(_wanted)]


@router.get("")
def read_audit(act: Annotated[Act, may("audit.read")]) -> wire.Audit:
    """The directory's posture, with the rules that were applied. What changed is looked at before it is answered."""
    return posture.read_posture(act)


@router.get("/findings")
def list_findings(
    act: Annotated[Act, may("findings.list")],
    request: Request,
    response: Response,
    wanted: WantedFindings,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.KeptFinding]:
    """Findings, worst first. What changed is looked at before the first page is answered."""
    found, after = audit.list_findings(act, wanted, _position(cursor), limit)
    following = onward(request, response, after)
    return Page[wire.KeptFinding](items=found, next=following)


@router.get(_ONE)
def read_finding(act: Annotated[Act, may("findings.read")], finding: UUID) -> wire.KeptFinding:
    """A finding, resolved or not."""
    return audit.read_finding(act, finding)


@router.get("/groups")
def group_findings(
    act: Annotated[Act, may("findings.list-groups")],
    request: Request,
    response: Response,
    wanted: WantedFindings,
    by: GroupBy = GroupBy.RULE,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.FindingGroup]:
    """Findings in groups by rule, client or owner: how many, how bad, since when; the worst first."""
    skip = unpack(cursor) if cursor is not None else 0
    if not isinstance(skip, int) or not 0 <= skip < 2**31:
        raise bad_cursor(str(cursor))
    rows = audit.group_findings(act, by, wanted, skip, limit + 1)
    titles = {rule.id: rule.title for rule in RULES} if by is GroupBy.RULE else {}
    following = onward(request, response, skip + limit if len(rows) > limit else None)
    items = [
        wire.FindingGroup(
            key=one.key,
            title=titles.get(one.key, one.title),
            count=one.count,
            worst=wire.Severity(Severity(one.worst).word),
            oldest=one.oldest,
        )
        for one in rows[:limit]
    ]
    return Page[wire.FindingGroup](items=items, next=following)


@router.get("/excess")
def rank_excess(
    act: Annotated[Act, may("excess.rank", heavy=True)],
    by: ExcessBy = ExcessBy.CLIENT,
    limit: Limit = DEFAULT_LIMIT,
) -> list[wire.RankedExcess]:
    """Weight granted, used and unused by client, owner or resource; the most unused first."""
    return posture.rank_excess(act, by, limit)


@router.get("/excess/trend")
def read_trend(
    act: Annotated[Act, may("excess.trend", heavy=True)],
    by: Annotated[ExcessBy | None, Query(description="Left out: of the directory")] = None,
    key: Annotated[str, Query(max_length=200, description="Of the client, person or resource")] = "",
    days: Annotated[int, Query(ge=1, le=730)] = 90,
) -> list[wire.ExcessOnDay]:
    """Excess at the end of each day: of the directory, or of one client, owner or resource."""
    return posture.excess_trend(act, by, key, days)


@router.get("/report", response_class=Response)
def read_report(act: Annotated[Act, may("audit.report", heavy=True)], form: ReportForm) -> Response:
    """The same for others: SARIF 2.1.0, CSV (RFC 4180), a JSON object a line, or a page. What is waived says so."""
    found, history = audit.run_audit(act), posture.excess_history(act, posture.TREND_DAYS)
    text = write_report(form, act, found, history)
    headers = {"Content-Disposition": f'attachment; filename="{act.slug}-audit.{form.value}"'}
    return Response(text, media_type=form.media_type, headers=headers)


@router.post(f"{_ONE}/waiver")
def waive(
    finding: UUID,
    sent: wire.Waiver,
    act: Annotated[Act, may("findings.waive")],
) -> wire.KeptFinding:
    """Waive a finding for some days, with a reason."""
    return audit.waive(act, finding, sent.days, sent.reason)


@router.post(f"{_ONE}/waiver/ending")
def end_waiver(finding: UUID, act: Annotated[Act, may("findings.end-waiver")]) -> wire.KeptFinding:
    """Count a waived finding again."""
    return audit.end_waiver(act, finding)


@router.post(f"{_ONE}/assignment")
def assign(
    finding: UUID,
    sent: wire.FindingAssignment,
    act: Annotated[Act, may("findings.assign")],
) -> wire.KeptFinding:
    """Have a person see to a finding."""
    return audit.assign(act, finding, sent.person, sent.note)


def _position(cursor: str | None) -> audit.Position | None:
    if cursor is None:
        return None
    value = unpack(cursor)
    try:
        severity, rule, key = value
        return int(severity), str(rule), UUID(key)
    except (TypeError, ValueError, AttributeError) as error:
        raise bad_cursor(cursor) from error
