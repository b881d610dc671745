"""Structured logs: one JSON object a line. Nothing logs a body, a header or a query string, so no secret can get in."""

from __future__ import annotations

import logging
import sys

import structlog

from jamb.service.http import request_id

_KEPT_SILENT = ("httpx", "httpcore", "alembic", "procrastinate")


def set_up_logs(level: str) -> None:
    number = logging.getLevelNamesMapping()[level.upper()]
    shared: list[structlog.typing.Processor] = [
        structlog.processors.add_log_level,
        request_id.logged,
        structlog.processors.TimeStamper(fmt="iso", utc=True, key="at"),
    ]
    structlog.configure(
        processors=[*shared, structlog.processors.format_exc_info, structlog.processors.JSONRenderer()],
        wrapper_class=structlog.make_filtering_bound_logger(number),
        logger_factory=structlog.WriteLoggerFactory(sys.stderr),
        cache_logger_on_first_use=True,
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=shared,
            processors=[
                structlog.stdlib.ProcessorFormatter.remove_processors_meta,
                structlog.processors.format_exc_info,
                structlog.processors.JSONRenderer(),
            ],
        )
    )
    root = logging.getLogger()
    root.handlers[:] = [handler]
    root.setLevel(number)
    for name in _KEPT_SILENT:
        logging.getLogger(name).setLevel(logging.WARNING)
    for name in ("uvicorn", "uvicorn.error"):
        logger = logging.getLogger(name)
        logger.handlers[:] = []
        logger.propagate = True
    # A failed pool says so every second for as long as the database is away; readiness says it better.
    logging.getLogger("psycopg.pool").setLevel(logging.ERROR)
