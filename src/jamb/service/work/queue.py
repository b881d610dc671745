"""The queue, in PostgreSQL: each periodic task is queued once however many processes run, and done by one of them.

What is to be carried stands in rows of its own (`store/notices.py`); a task only wakes whoever carries it. So a process
that is killed loses nothing, and what it had taken is taken again by another a little later.

What needs a mail server has a queue of its own, on which only processes work that have one. Each directory, and within
it each duty, is done by itself (`actions/duties.py`).
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Mapping
from datetime import datetime
from functools import partial

import procrastinate
import psycopg
import structlog
from procrastinate import exceptions
from procrastinate.jobs import Status
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool

from jamb.actions.audit.escalation_paths import keep_escalation_paths
from jamb.actions.audit.evaluation import look_again_at_the_future, sweep
from jamb.actions.audit.reviews import close_due
from jamb.actions.base.act import act_in
from jamb.actions.base.backend import Backend
from jamb.actions.base.duties import do_all
from jamb.actions.credentials.policy_rotation import open_by_policy
from jamb.actions.credentials.shown_once import carried
from jamb.actions.directory.signing_keys import rotate_by_policy as rotate_keys_by_policy
from jamb.actions.notices import notices
from jamb.actions.notices.rounds import directories_to_visit
from jamb.core.directory.duties import Duty
from jamb.core.errors import ClockWrong, WorldFailure
from jamb.service.config.settings import Settings
from jamb.service.running.background import ended_by_itself
from jamb.service.running.process_counts import ROUNDS
from jamb.service.runtime import POOL_TIMEOUT_SECONDS, RECONNECT_SECONDS, Runtime
from jamb.service.work.mails import Mailer, send_mails
from jamb.service.work.pushes import Pusher, send_pushes
from jamb.store.connections.bounded import Patience
from jamb.store.connections.outages import reason_of

_log = structlog.get_logger("jamb.work")
_AGAIN_SECONDS = 3.0
# So long a round has to end when the process does.
_ROUND_ENDS_SECONDS = 3.0
_QUEUE, _MAIL_QUEUE = "rounds", "mail"


def make_queue(runtime: Runtime) -> procrastinate.App:
    """Return the queue with its tasks bound to this process's runtime."""
    url = runtime.settings.direct_database()
    arguments = Patience().arguments(url, "jamb queue")
    connector = procrastinate.PsycopgConnector(
        # Its own connection, past any pooler: it listens, and its tables are found by a search path.
        conninfo=url,
        kwargs=arguments | {"options": f"{arguments['options']} -c search_path=queue,public"},
        timeout=POOL_TIMEOUT_SECONDS,
        reconnect_timeout=RECONNECT_SECONDS,
        min_size=1,
        max_size=6,
    )
    app = procrastinate.App(connector=connector)

    # No locks: a process that is killed would hold it. Whoever tells takes the directory's own, in its transaction.
    @app.periodic(cron=runtime.settings.notices_cron)
    @app.task(name="look", queue=_QUEUE, queueing_lock="look", pass_context=False)
    async def look(timestamp: int) -> None:  # noqa: ARG001 - the library's signature
        """Look at every directory, then push what is to be told; mails are sent by who can."""
        for job in await app.job_manager.get_stalled_jobs():
            # Its process is gone. What it was about stands in rows: this round finds the same.
            await app.job_manager.finish_job(job, Status.FAILED, delete_job=True)
        await do_rounds(runtime, rounds_of, directories_to_visit)
        await push.configure(queueing_lock=None).defer_async()
        await post.configure(queueing_lock="post").defer_async()

    @app.periodic(cron=runtime.settings.notices_cron)
    @app.task(name="rotate", queue=_MAIL_QUEUE, queueing_lock="rotate", pass_context=False)
    async def rotate(timestamp: int) -> None:  # noqa: ARG001 - the library's signature
        await do_rounds(runtime, rotations_of)

    @app.task(name="push", queue=_QUEUE, pass_context=False)
    async def push() -> None:
        if await _clock_is_right(runtime):
            await send_pushes(runtime.work, Pusher(runtime))

    @app.task(name="post", queue=_MAIL_QUEUE, pass_context=False)
    async def post() -> None:
        if await _clock_is_right(runtime):
            await send_mails(runtime.work, Mailer.of(runtime.settings))

    return app


Rounds = Callable[[Runtime, str], Mapping[Duty, Callable[[], object]]]


def rounds_of(runtime: Runtime, slug: str) -> Mapping[Duty, Callable[[], object]]:
    """What any process does for a directory."""
    now = runtime.clock.now()
    return {
        Duty.EVALUATE: partial(_evaluate, runtime, slug, now),
        Duty.CLOSE_REVIEWS: partial(close_due, runtime.work, slug, now),
        Duty.ROTATE_KEYS: partial(_rotate_key, runtime, slug, now),
        Duty.TELL: partial(_tell, runtime, slug, now),
        Duty.ESCALATION: partial(_find_paths, runtime, slug, now),
    }


def rotations_of(runtime: Runtime, slug: str) -> Mapping[Duty, Callable[[], object]]:
    """What only a process with a mail server does: nobody else's links would be received."""
    return {Duty.ROTATE: partial(rotate_by_policy, runtime, slug)}


def _all_directories(backend: Backend, _now: datetime) -> list[str]:
    return notices.directories_to_tell(backend)


async def do_rounds(
    runtime: Runtime, rounds: Rounds, which: Callable[[Backend, datetime], list[str]] = _all_directories
) -> None:
    """Do this in these directories, one after the other."""
    with ROUNDS.time():
        await _do_rounds(runtime, rounds, which)


async def _do_rounds(runtime: Runtime, rounds: Rounds, which: Callable[[Backend, datetime], list[str]]) -> None:
    if not await _clock_is_right(runtime):
        return
    for slug in await run_in_threadpool(which, runtime.work, runtime.clock.now()):
        try:
            failed = await run_in_threadpool(do_all, runtime.work, slug, rounds(runtime, slug), runtime.clock.now())
        except ClockWrong as wrong:
            _log.error("a round was not finished", directory=slug, reason=wrong.message)
            return
        except SQLAlchemyError as error:
            _log.warning("a round was not finished, will try again", directory=slug, **reason_of(error))
            continue
        for duty, mistake in failed.items():
            _log.error("a duty failed, and is put aside", directory=slug, duty=duty.value, exc_info=mistake)


async def _clock_is_right(runtime: Runtime) -> bool:
    """Tell whether work may go by this machine's clock: a wrong one finds, closes, puts off what is not due."""
    try:
        runtime.clock.compared(await runtime.reader.moment())
        runtime.clock.now()
    except WorldFailure as failure:
        _log.error("nothing is done now", reason=failure.message)
        return False
    return True


def _evaluate(runtime: Runtime, slug: str, now: datetime) -> None:
    look_again_at_the_future(runtime.work, slug, now)
    sweep(runtime.work, slug, now, clock=runtime.clock.now)


def _rotate_key(runtime: Runtime, slug: str, now: datetime) -> None:
    if rotate_keys_by_policy(act_in(runtime.work, slug, now)):
        _log.info("a new signing key is published", directory=slug)


def _tell(runtime: Runtime, slug: str, now: datetime) -> None:
    told = notices.tell(runtime.work, slug, now)
    if told.notices or told.pushes:
        _log.info("told", directory=slug, notices=told.notices, mails=told.mails, pushes=told.pushes)


def _find_paths(runtime: Runtime, slug: str, now: datetime) -> None:
    if keep_escalation_paths(act_in(runtime.work, slug, now)):
        _log.info("escalation paths were found anew", directory=slug)


def rotate_by_policy(runtime: Runtime, slug: str) -> int:
    """Open what the policy wants opened. Only where there is a mail server: else nobody would receive the links."""
    if runtime.settings.smtp_url is None:
        return 0
    opened, failed = open_by_policy(runtime.work, slug, carried, runtime.clock.now())
    if opened or failed:
        _log.info("rotations opened by policy", directory=slug, opened=opened, failed=failed[:10])
    return opened


async def carry_all(runtime: Runtime) -> None:
    """Send what is due."""
    await send_mails(runtime.work, Mailer.of(runtime.settings))
    await send_pushes(runtime.work, Pusher(runtime))


def queues_of(settings: Settings) -> list[str]:
    """Return what a process works on: what needs a mail server only where it has one."""
    return [_QUEUE, _MAIL_QUEUE] if settings.smtp_url is not None else [_QUEUE]


async def working(runtime: Runtime) -> None:
    """Work on the queue, for ever. While the database is away it is tried again."""
    queues = queues_of(runtime.settings)
    while True:
        app = make_queue(runtime)
        try:
            async with app.open_async():
                worker = app.run_worker_async(
                    queues=queues,
                    install_signal_handlers=False,
                    concurrency=4,
                    delete_jobs="always",
                    shutdown_graceful_timeout=_ROUND_ENDS_SECONDS,
                )
                # What a round did is noted before its connection is closed.
                await ended_by_itself(worker, _ROUND_ENDS_SECONDS + 1)
        except (exceptions.ProcrastinateException, psycopg.Error, OSError) as error:
            task = asyncio.current_task()
            if task is not None and task.cancelling():
                # The process ends while the database is away: the library told of the outage instead.
                raise asyncio.CancelledError from error
            # The pool of the library says it in the driver's words, the rest of it in its own.
            _log.warning("the queue does not answer, will try again", **reason_of(error.__cause__ or error))
        await asyncio.sleep(_AGAIN_SECONDS)
