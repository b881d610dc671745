"""Asks and consent."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from jamb.actions.base.act import Act
from jamb.actions.consent import asks, consent, consent_changes, consent_preview, inheritance, reach_changes
from jamb.core.permissions import Catalogue, weigh_operation
from jamb.core.reach import EVERYWHERE
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.consent import consent as wire
from jamb.wire.resources.reach import Reach
from jamb.wire.resources.resources import Operation, operation_of

router = api_router("/api/v1/directories/{directory}/clients/{client}", tags=["consent"])


@router.post("/asks", status_code=201)
def add_asks(client: str, sent: wire.NewAsk, act: Annotated[Act, may("asks.add")]) -> list[wire.Ask]:
    """Say which permissions of one resource the client needs. Opens nothing yet."""
    return asks.ask(
        act,
        client,
        sent.resource,
        sent.permissions,
        sent.kind,
        sent.reason,
        sent.reach.value() if sent.reach is not None else EVERYWHERE,
    )


@router.post("/asks/check")
def check_asks(act: Annotated[Act, may("asks.check")], client: str, sent: wire.AskList) -> wire.CheckedList:
    """What a list from a manual holds: known, redundant, heavy and unknown names. Nothing is saved."""
    found = asks.check(act, client, sent.text, sent.kind)
    return wire.CheckedList(
        asks=[wire.ListedAsk.model_validate(one) for one in found.asks],
        unknown=list(found.unknown),
        unclear=[wire.UnclearName(name=name, why=why) for name, why in found.unclear],
    )


@router.post("/asks/list", status_code=201)
def add_ask_list(
    client: str,
    sent: wire.AskList,
    act: Annotated[Act, may("asks.add-list")],
) -> list[wire.Ask]:
    """Ask for what a list needs, all or none; what another of it implies is left out."""
    return asks.ask_list(act, client, sent.text, sent.kind, sent.reason)


@router.delete("/asks/{ask}")
def drop_ask(client: str, ask: UUID, act: Annotated[Act, may("asks.drop")]) -> wire.Ask:
    """Take an ask back. A grant of it stays until it is withdrawn."""
    return asks.drop_ask(act, client, ask)


@router.post("/inheritance/preview")
def preview_inheritance(
    client: str,
    sent: wire.InheritanceSent,
    act: Annotated[Act, may("inheritance.preview")],
) -> wire.Inheritance:
    """What the client would ask for if it inherited your own rights, or this part of them."""
    found = inheritance.preview_inheritance(act, client, _choices(sent))
    return wire.Inheritance.model_validate(found)


@router.post("/inheritance", status_code=201)
def inherit(
    client: str,
    sent: wire.InheritanceSent,
    act: Annotated[Act, may("inheritance.ask")],
) -> wire.Inheritance:
    """Ask for what your own roles allow, never more; granted at once where the policy lets clients inherit from their
    makers.
    """
    found = inheritance.inherit(act, client, _choices(sent), sent.reason)
    return wire.Inheritance.model_validate(found)


@router.get("/consents")
def list_consents(act: Annotated[Act, may("consent.list")], client: str) -> list[wire.Grant]:
    """The consents in force, those that people gave for themselves too."""
    return consent.list_consents(act, client)


@router.post("/consent/preview")
def preview_consent(
    client: str,
    sent: wire.ConsentDraft,
    act: Annotated[Act, may("consent.preview")],
) -> wire.ConsentPreview:
    """What consent to the waiting asks, or to the chosen ones, within these terms would make possible."""
    found = consent_preview.preview(act, client, sent.asks, terms_of(sent.terms))
    return preview_answer(found)


@router.post("/consent", status_code=201)
def grant_consent(
    client: str,
    sent: wire.NewConsent,
    act: Annotated[Act, may("consent.grant")],
) -> list[wire.Grant]:
    """Consent to the waiting asks, or to the chosen ones, in one step."""
    return consent.grant(act, client, sent.asks, sent.reason, terms_of(sent.terms))


@router.post("/consent/reach")
def change_reach(
    client: str,
    sent: wire.ReachChange,
    act: Annotated[Act, may("consent.change-reach")],
) -> wire.ReachChanged:
    """Change where consents count. Where it narrows, tokens from before are bounded within seconds."""
    grants, comparison = reach_changes.change_reach(act, _reach_wish(client, sent), sent.reason)
    return wire.ReachChanged(
        grants=grants,
        wider=sorted(comparison.wider | comparison.newly),
        narrower=sorted(comparison.narrower),
        no_longer=sorted(comparison.no_longer),
    )


@router.post("/consent/reach/preview")
def preview_reach(
    client: str,
    sent: wire.ReachChange,
    act: Annotated[Act, may("reach.preview")],
) -> wire.ReachPreview:
    """What another reach would make possible and end, and whether another person must agree. Changes nothing."""
    wish = _reach_wish(client, sent)
    found = reach_changes.preview_reach(act, wish)
    catalogue, compared = found.here.catalogue, found.comparison
    return wire.ReachPreview(
        newly=_heaviest_first(catalogue, compared.newly),
        wider=_heaviest_first(catalogue, compared.wider),
        narrower=sorted(compared.narrower),
        no_longer=sorted(compared.no_longer),
        added_weight=found.weight,
        agreement=found.agreement,
    )


def _reach_wish(client: str, sent: wire.ReachChange) -> reach_changes.ReachWish:
    return reach_changes.ReachWish(client, sent.resource, sent.permissions, sent.kind, sent.reach.value(), sent.person)


@router.post("/consent/refusal")
def decline_asks(
    client: str,
    sent: wire.AsksDeclined,
    act: Annotated[Act, may("asks.decline")],
) -> list[wire.Ask]:
    """Decline the waiting asks, or the chosen ones: they go, and the client's history says why."""
    return consent.decline(act, client, sent.asks, sent.reason)


@router.post("/consent/withdrawal")
def withdraw_consent(
    client: str,
    sent: wire.ConsentWithdrawal,
    act: Annotated[Act, may("consent.withdraw")],
) -> wire.WithdrawnConsent:
    """End the consent to permissions, now or at a moment to come. The asks stay; guards refuse tokens from before."""
    return consent_changes.withdraw(
        act, client, sent.resource, sent.permissions, sent.kind, sent.reason, sent.at, sent.person
    )


def terms_of(sent: wire.Terms | None) -> consent_preview.GrantTerms:
    if sent is None:
        return consent_preview.AS_ASKED
    reach = {name: one.value() for name, one in sent.reach.items()}
    return consent_preview.GrantTerms(reach, sent.expires_at, sent.person)


def preview_answer(found: consent_preview.ConsentPreview) -> wire.ConsentPreview:
    return wire.ConsentPreview(
        client_id=found.client_id,
        client_name=found.client_name,
        purpose=found.purpose,
        person=found.person,
        weight=found.weight,
        two_people=found.two_people,
        approvers=found.approvers,
        asked_by=list(found.asked_by),
        asked_by_ids=list(found.asked_by_ids),
        resources=[_place_answer(place) for place in found.resources],
        acting=list(found.acting),
        agreement=found.agreement,
    )


def _place_answer(place: consent_preview.ConsentAtResource) -> wire.ConsentAtResource:
    compared = place.comparison
    return wire.ConsentAtResource(
        resource=place.catalogue.name,
        title=place.catalogue.title,
        kind=place.kind,
        object_name=place.catalogue.object_name,
        asks=list(place.asks),
        reach=[Reach.model_validate(one) for one in place.reach],
        newly=_heaviest_first(place.catalogue, compared.newly),
        wider=_heaviest_first(place.catalogue, compared.wider),
        unchanged=_heaviest_first(place.catalogue, compared.unchanged),
        objects=[
            wire.ObjectCount(
                operation=name,
                before=count.before,
                after=count.after,
                known=count.known,
                uncollected=count.uncollected,
            )
            for name, count in sorted(compared.objects.items())
        ],
        added_weight=compared.added_weight,
        implied=compared.implied,
        redundant=compared.redundant,
        others=list(place.others),
        rules=list(place.rules),
    )


def _choices(sent: wire.InheritanceSent) -> dict[str, inheritance.InheritedChoice] | None:
    if sent.choices is None:
        return None
    return {
        name: inheritance.InheritedChoice(one.level, one.reach.value() if one.reach is not None else EVERYWHERE)
        for name, one in sent.choices.items()
    }


def _heaviest_first(catalogue: Catalogue, names: frozenset[str]) -> list[Operation]:
    ordered = sorted(names, key=lambda name: (-weigh_operation(catalogue.operations[name]), name))
    return [operation_of(catalogue, name) for name in ordered]
