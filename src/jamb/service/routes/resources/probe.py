"""Probe a client at a resource; the words for tokens; where a resource answers."""

from __future__ import annotations

from typing import Annotated

from fastapi import Request
from starlette.concurrency import run_in_threadpool

from jamb.actions.base.act import Act
from jamb.actions.resources import probes
from jamb.core.errors import Unsuited
from jamb.core.permissions import AccessKind
from jamb.core.tokens import CLAIMS, TokenReading, read_token
from jamb.service import probe as prober
from jamb.service.callers import TheRuntime, may
from jamb.service.http.routing import api_router
from jamb.service.routes.resources.access import explained
from jamb.wire.resources import probe as wire
from jamb.wire.resources.access import Question

router = api_router("/api/v1", tags=["probe"])


@router.get("/claims")
def list_claims() -> list[wire.ClaimWords]:
    """What the claims of a token are called and mean. Open to all: so a token can be read where it is pasted."""
    return [wire.ClaimWords.model_validate(one) for one in CLAIMS.values()]


@router.post("/directories/{directory}/clients/{client}/probe")
async def probe(
    act: Annotated[Act, may("probe.run")],
    client: str,
    sent: wire.NewProbe,
    request: Request,
    runtime: TheRuntime,
) -> wire.Probe:
    """Fetch a token, read it, call the resource with it, and explain how it went."""
    if sent.person is not None and sent.secret is not None:
        allowed = "left out with the client's own secret: nobody signs in by it"
        raise Unsuited.field("person", sent.person, allowed, "Leave one of the two out.")
    plan = await run_in_threadpool(
        probes.plan_probe, act, client, sent.resource, sent.operation, sent.object, sent.person
    )
    secret = sent.secret.get_secret_value() if sent.secret is not None else None
    fetched = await prober.fetch(request.app, runtime, act.slug, plan, secret)
    called = await prober.call(runtime, plan, fetched, secret is not None)
    question = Question(
        resource=sent.resource,
        operation=sent.operation,
        kind=AccessKind.APPLICATION if sent.person is None else AccessKind.DELEGATED,
        person=sent.person,
        object=sent.object,
        token=fetched.token or None,
    )
    found = await run_in_threadpool(explained, runtime, act, client, question)
    reading = read_token(fetched.token, act.now) if fetched.token else TokenReading((), (), ())
    works = bool(fetched.token) and found.allowed and (called is None or 200 <= called.status < 300)
    verdict = _verdict(works, fetched.error, called, found.allowed)
    what = {"operation": sent.operation, "resource": sent.resource, "way": fetched.way, "verdict": verdict}
    if plan.person:
        what["for"] = plan.person
    await run_in_threadpool(probes.note_probe, act, client, what)
    return wire.Probe(
        works=works,
        verdict=verdict,
        token=wire.TokenStep(
            way=fetched.way,
            error=fetched.error,
            header=[wire.ReadClaim.model_validate(one) for one in reading.header],
            claims=[wire.ReadClaim.model_validate(one) for one in reading.claims],
            wrong=list(reading.wrong),
        ),
        call=called,
        explanation=found,
    )


def _verdict(works: bool, error: str, called: wire.CallStep | None, allowed: bool) -> str:
    if error:
        return f"It gets no token. {error}"
    if called is None:
        said = "would be allowed" if allowed else "would be refused"
        return f"By the records it {said}; nobody said where the resource answers, so it was not called."
    if works:
        return f"It works. {called.words}"
    if allowed and called.status in {401, 403}:
        return f"By the records it should work, but the resource refuses. {called.words}"
    return f"It does not work. {called.words}"
