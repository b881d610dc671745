"""Alive, and ready: two questions that a supervisor asks."""

from __future__ import annotations

from fastapi import APIRouter, Response
from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from jamb.service.callers import TheOffice
from jamb.store.migrate import newest_revision

router = APIRouter(tags=["health"])


@router.get("/health")
def alive() -> dict[str, str]:
    """The process answers."""
    return {"status": "alive"}


@router.get("/ready")
def ready(office: TheOffice, response: Response) -> dict[str, str]:
    """The database answers and has the schema this version needs."""
    try:
        with office.premises.engine.connect() as connection:
            revision = connection.execute(text("select version_num from alembic_version")).scalar_one_or_none()
    except SQLAlchemyError:
        response.status_code = 503
        return {"status": "waiting", "reason": "the database does not answer, or was never migrated"}
    if revision != newest_revision():
        response.status_code = 503
        return {"status": "waiting", "reason": "the schema is not current: run `jamb-service migrate`"}
    return {"status": "ready"}
