"""Metrics for those who watch the service, in the exposition format that scrapers read.

They are counted from the database when they are asked for, so that every process says the same. A token that a setting
gives must come with the request: what is counted tells how an organisation works.
"""

from __future__ import annotations

import hmac
from collections.abc import Iterator

from fastapi import APIRouter, Request
from fastapi.responses import Response
from prometheus_client import CONTENT_TYPE_LATEST, CollectorRegistry, generate_latest
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
from sqlmodel import Session

from jamb.core.errors import NotFound, NotSignedIn
from jamb.service.callers import Now, TheRuntime, token_of
from jamb.service.running.process_counts import REGISTRY
from jamb.store.connections.engine import connections_of
from jamb.store.directory import counts

router = APIRouter(include_in_schema=False)


@router.get("/metrics")
def metrics(request: Request, runtime: TheRuntime, now: Now) -> Response:
    wanted = runtime.settings.metrics_token
    if wanted is None:
        raise NotFound("Metrics are not open.", next_step="Set JAMB_METRICS_TOKEN, and send it as a bearer token.")
    sent = token_of(request)
    if not hmac.compare_digest((sent.token if sent is not None else "").encode(), wanted.get_secret_value().encode()):
        raise NotSignedIn("Metrics need the token of JAMB_METRICS_TOKEN.", next_step="Send it as a bearer token.")
    with Session(runtime.backend.engine) as session:
        families = [
            *_credentials(session, now),
            *_tokens(session),
            *_rotations(session, now),
            *_queue(session, now),
            *_work(session, runtime),
            *_ledgers(session),
            *_pools(runtime),
        ]

    class Collected:
        def collect(self) -> Iterator[Metric]:
            return iter(families)

    registry = CollectorRegistry()
    registry.register(Collected())
    found = generate_latest(registry) + generate_latest(REGISTRY)
    return Response(found, headers={"Content-Type": CONTENT_TYPE_LATEST})


def _credentials(session: Session, now: Now) -> list[Metric]:
    by_state = GaugeMetricFamily("jamb_credentials", "Credentials by state", labels=["directory", "kind", "state"])
    by_days = GaugeMetricFamily(
        "jamb_credentials_ending", "Credentials that stand and end within so many days", labels=["directory", "days"]
    )
    states: dict[tuple[str, str, str], int] = {}
    ending: dict[tuple[str, int], int] = {}
    for slug, kind, state, days_left, count in counts.credentials(session, now):
        states[slug, kind, state] = states.get((slug, kind, state), 0) + count
        for days in counts.DAYS[1:]:
            ending[slug, days] = ending.get((slug, days), 0) + (
                count if days_left is not None and days_left <= days else 0
            )
    for labels, count in sorted(states.items()):
        by_state.add_metric(labels, count)
    for (slug, days), count in sorted(ending.items()):
        by_days.add_metric([slug, str(days)], count)
    return [by_state, by_days]


def _tokens(session: Session) -> list[Metric]:
    found = CounterMetricFamily(
        "jamb_token_requests", "Token requests on record by outcome", labels=["directory", "outcome"]
    )
    for slug, outcome, count in counts.attempts(session):
        found.add_metric([slug, outcome], count)
    return [found]


def _rotations(session: Session, now: Now) -> list[Metric]:
    found = GaugeMetricFamily("jamb_rotations_open", "Open rotations", labels=["directory", "state"])
    for slug, state, count in counts.open_rotations(session, now):
        found.add_metric([slug, state], count)
    return [found]


def _work(session: Session, runtime: TheRuntime) -> list[Metric]:
    failing = GaugeMetricFamily(
        "jamb_duties_failing", "Failures in a row of what is done in every round", labels=["directory", "duty"]
    )
    for slug, duty, failures in counts.failing_duties(session):
        failing.add_metric([slug, duty], failures)
    restarts = CounterMetricFamily("jamb_work_restarts", "Background work of this process begun again", labels=["work"])
    for name, work in sorted(runtime.background.works.items()):
        restarts.add_metric([name], work.restarts)
    left_out = CounterMetricFamily("jamb_records_left_out", "Records that the database refused, of this process")
    left_out.add_metric([], runtime.recorder.left_out)
    return [failing, restarts, left_out]


def _ledgers(session: Session) -> list[Metric]:
    found = CounterMetricFamily("jamb_ledger_entries", "Entries in the ledger", labels=["directory"])
    for slug, entries in counts.ledgers(session):
        found.add_metric([slug], entries)
    return [found]


def _pools(runtime: TheRuntime) -> list[Metric]:
    """Of this process. A pool whose connections all work has callers waiting for one."""
    held = GaugeMetricFamily("jamb_database_connections", "Database connections, of this process", labels=["pool"])
    busy = GaugeMetricFamily("jamb_database_connections_busy", "Of these, those at work", labels=["pool"])
    for name, engine in (("requests", runtime.backend.engine), ("work", runtime.work.engine)):
        size, free = connections_of(engine)
        held.add_metric([name], size)
        busy.add_metric([name], size - free)
    size, free = runtime.reader.connections()
    held.add_metric(["tokens"], size)
    busy.add_metric(["tokens"], size - free)
    age = GaugeMetricFamily("jamb_standby_age_seconds", "Age of what the standby showed last, of this process")
    if runtime.standby is not None and runtime.standby.age is not None:
        age.add_metric([], runtime.standby.age)
    return [held, busy, age]


def _queue(session: Session, now: Now) -> list[Metric]:
    waiting = GaugeMetricFamily("jamb_queue_waiting", "Mails and events that wait", labels=["carrier"])
    age = GaugeMetricFamily("jamb_queue_age_seconds", "How long the oldest of them waits", labels=["carrier"])
    dead = GaugeMetricFamily("jamb_queue_dead", "Mails and events that were given up", labels=["carrier"])
    for carrier, count, oldest, given_up in counts.queue(session, now):
        waiting.add_metric([carrier], count)
        age.add_metric([carrier], oldest.total_seconds())
        dead.add_metric([carrier], given_up)
    return [waiting, age, dead]
