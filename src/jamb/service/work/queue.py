"""The queue, in PostgreSQL: each periodic task is queued once however many processes run, and done by one of them.

What is to be carried stands in rows of its own (`store/notices.py`); a task only wakes whoever carries it. So a process
that is killed loses nothing, and what it had taken is taken again by another a little later.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import UTC, datetime

import procrastinate
import psycopg
import structlog
from procrastinate import exceptions
from procrastinate.jobs import Status
from starlette.concurrency import run_in_threadpool

from jamb.actions import notices
from jamb.actions.policy_rotation import open_by_policy
from jamb.actions.reviews import close_due
from jamb.actions.sweep import sweep
from jamb.service.alongside import alongside
from jamb.service.office import Office
from jamb.service.routes.handovers import carried
from jamb.service.work.mails import Mailer, send_mails
from jamb.service.work.pushes import Pusher, send_pushes
from jamb.store.engine import driver_url

_log = structlog.get_logger("jamb.work")
_AGAIN_SECONDS = 3.0


def make_queue(office: Office) -> procrastinate.App:
    """Return the queue with its tasks bound to this process's office."""
    connector = procrastinate.PsycopgConnector(
        conninfo=driver_url(office.settings.database()),
        kwargs={"options": "-c search_path=queue,public", "application_name": "jamb work"},
        min_size=1,
        max_size=4,
    )
    app = procrastinate.App(connector=connector)

    @app.periodic(cron=office.settings.notices_cron)
    # No lock: a process that is killed would hold it. Whoever tells takes the directory's own, in its transaction.
    @app.task(name="tell", queueing_lock="tell", pass_context=False)
    async def tell(timestamp: int) -> None:  # noqa: ARG001 - the library's signature
        """Find what is new for people and webhooks, then carry it."""
        for job in await app.job_manager.get_stalled_jobs():
            # Its process is gone. What it was about stands in rows: this round finds the same.
            await app.job_manager.finish_job(job, Status.FAILED, delete_job=True)
        for slug in await run_in_threadpool(notices.directories_to_tell, office.premises):
            await run_in_threadpool(rotate_by_policy, office, slug)
            await run_in_threadpool(sweep, office.premises, slug, datetime.now(UTC))
            await run_in_threadpool(close_due, office.premises, slug, datetime.now(UTC))
            told = await run_in_threadpool(notices.tell, office.premises, slug, datetime.now(UTC))
            if told.notices or told.pushes:
                _log.info("told", directory=slug, notices=told.notices, letters=told.letters, pushes=told.pushes)
        await carry.configure(queueing_lock=None).defer_async()

    @app.task(name="carry", pass_context=False)
    async def carry() -> None:
        await carry_all(office)

    return app


def rotate_by_policy(office: Office, slug: str) -> int:
    """Open what the policy wants opened. Only where there is a mail server: else nobody would receive the links."""
    if office.settings.smtp_url is None:
        return 0
    opened, failed = open_by_policy(office.premises, slug, carried, datetime.now(UTC))
    if opened or failed:
        _log.info("rotations opened by policy", directory=slug, opened=opened, failed=failed[:10])
    return opened


async def carry_all(office: Office) -> None:
    """Send what is due, until nothing is."""
    mailer, pusher = Mailer.of(office.settings), Pusher(office)
    try:
        while await send_mails(office.premises, mailer) + await send_pushes(office.premises, pusher):
            pass
    finally:
        await pusher.close()


@asynccontextmanager
async def working(office: Office) -> AsyncIterator[None]:
    """Work on the queue until the block ends. While the database is away it is tried again."""
    async with alongside(_work(office), "queue"):
        yield


async def _work(office: Office) -> None:
    while True:
        app = make_queue(office)
        try:
            async with app.open_async():
                await app.run_worker_async(
                    install_signal_handlers=False, concurrency=2, delete_jobs="always", shutdown_graceful_timeout=3
                )
        except (exceptions.ProcrastinateException, psycopg.Error, OSError) as error:
            # The pool of the library says it in the driver's words, the rest of it in its own.
            _log.warning("the queue does not answer, will try again", error=type(error).__name__)
        await asyncio.sleep(_AGAIN_SECONDS)
