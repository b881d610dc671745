"""The composition root: settings in, application out."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, nullcontext

from fastapi import FastAPI
from fastapi.routing import APIRoute

from jamb import __version__
from jamb.service.config.settings import Settings
from jamb.service.http import console
from jamb.service.http.description import describe, description
from jamb.service.http.middleware import Middleware
from jamb.service.http.problems import add_problem_handlers
from jamb.service.http.route_table import RouteTable
from jamb.service.http.tls import Tls
from jamb.service.oauth import routes as oauth
from jamb.service.routes.audit import audit, remedies, reviews, search
from jamb.service.routes.audit import my_findings as given
from jamb.service.routes.clients import clients, initial_access, removals
from jamb.service.routes.consent import charters, consent, consents, requests, rightsizing
from jamb.service.routes.credentials import credentials, handovers, leaks, rotations
from jamb.service.routes.directory import directories, ledger, people, providers, roles, sign_in_links, signing_keys
from jamb.service.routes.entry import authorizations, session
from jamb.service.routes.entry import providers as outside
from jamb.service.routes.notices import calendar, notices
from jamb.service.routes.resources import access, probe, resources, usage
from jamb.service.running import health, metrics, traces
from jamb.service.running.waiting import Waiting
from jamb.service.runtime import open_runtime
from jamb.service.work import working
from jamb.service.work.sign_outs import telling

ROUTERS = (
    session.router,
    authorizations.router,
    outside.router,
    directories.router,
    signing_keys.router,
    people.router,
    sign_in_links.router,
    providers.router,
    roles.router,
    resources.router,
    clients.router,
    charters.router,
    consent.router,
    consents.router,
    requests.router,
    credentials.router,
    rotations.router,
    handovers.router,
    leaks.router,
    probe.router,
    access.router,
    audit.router,
    given.router,
    remedies.router,
    rightsizing.router,
    reviews.router,
    removals.router,
    initial_access.router,
    ledger.router,
    notices.router,
    calendar.router,
    usage.router,
    search.router,
    oauth.router,
    health.router,
    metrics.router,
    console.router,
)


def create_app(settings: Settings, tls: Tls | None = None) -> FastAPI:
    """Return the application. `tls`: what the service ends itself; its certificates are kept up to date meanwhile."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        async with (
            open_runtime(settings) as runtime,
            runtime.background.doing("queue", lambda: working(runtime)),
            runtime.background.doing("sign-outs", lambda: telling(runtime)),
            runtime.background.doing("tls", lambda: tls.keep(runtime.reader.certificates))
            if tls is not None
            else nullcontext(),
        ):
            app.state.runtime = runtime
            yield

    app = FastAPI(
        title="Jamb",
        version=__version__,
        summary="Registers client applications, decides what each may do, and keeps proof of it.",
        lifespan=life,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
        # An address with a slash too many is another address: to send elsewhere would carry a secret along.
        redirect_slashes=False,
        telemetry=traces.telemetry(),
        generate_unique_id_function=_operation_id,
    )
    add_problem_handlers(app)
    oauth.add_oauth_handlers(app)
    app.add_route(oauth.TOKEN_PATH, oauth.token, methods=["POST"])
    # Described with the others, and found before them.
    app.add_route(oauth.INTROSPECTION_PATH, oauth.introspection_at_once, methods=["POST"])
    app.add_route("/openapi.json", description, methods=["GET"])
    app.router.routes.append(RouteTable(ROUTERS))
    for router in ROUTERS:
        app.include_router(router)
    app.openapi = lambda: describe(app)  # type: ignore[method-assign]
    app.add_middleware(
        Middleware,
        hosts=settings.own_hosts(),
        public_url=settings.base_url,
        max_body_bytes=settings.max_body_bytes,
        request_seconds=settings.request_seconds,
    )
    # Outside of the others: each look is a request of its own to them.
    app.add_middleware(Waiting)
    return app


def _operation_id(route: APIRoute) -> str:
    return route.name
