"""The stand-in Berths API: made-up berths behind a real guard."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Annotated, Any

import uvicorn
from fastapi import Depends, FastAPI, HTTPException, Query, Request, Response

from jamb.guard import Guard, UsageReporter, add_guard_handler

_QUAYS = {"north": 14, "south": 17, "fuel": 6}
_SHIPS = ("Marit Elise", "Corvina", "Old Tern", "Havørn", "Santa Ludmila", "Brisling IV", "Pallas", "Kestrel of Rye")
BERTHS: dict[str, dict[str, Any]] = {
    f"{quay}-{number}": {
        "berth": f"{quay}-{number}",
        "quay": quay,
        "metres": 60 + 15 * (number % 7),
        "occupant": _SHIPS[(number * 3 + len(quay)) % len(_SHIPS)] if number % 3 else None,
        "closed": False,
    }
    for quay, count in _QUAYS.items()
    for number in range(1, count + 1)
}
ARRIVALS = [{"ship": ship, "quay": list(_QUAYS)[place % 3], "hour": 5 + 2 * place} for place, ship in enumerate(_SHIPS)]


def create_berths(settings: dict[str, str]) -> FastAPI:
    """Return the API, guarded for the issuer and audience of `settings`, reporting use with its client."""
    reporter = UsageReporter(
        settings["issuer"],
        settings["report_url"],
        settings["report_audience"],
        "berths",
        settings["client_id"],
        settings["client_secret"],
    )
    guard = Guard(settings["issuer"], settings["audience"], reporter)

    @asynccontextmanager
    async def life(_app: FastAPI) -> AsyncIterator[None]:
        reporter.start()
        yield
        reporter.close()

    app = FastAPI(title="Berths (stand-in)", lifespan=life, docs_url=None, redoc_url=None)
    add_guard_handler(app, "berths")

    def needs(permission: str, operation: str) -> Any:
        return Depends(guard.requires(permission, operation=operation))

    @app.get("/berths", dependencies=[needs("berths.view", "berths.list")])
    def list_berths(
        request: Request,
        response: Response,
        after: str = "",
        limit: Annotated[int, Query(ge=1, le=50)] = 10,
    ) -> dict[str, Any]:
        names = list(BERTHS)
        start = names.index(after) + 1 if after in BERTHS else 0
        shown = names[start : start + limit]
        if start + limit < len(names):
            following = request.url.include_query_params(after=shown[-1], limit=limit)
            response.headers["Link"] = f'<{following.path}?{following.query}>; rel="next"'
        return {"items": [BERTHS[name] for name in shown], "total": len(names)}

    @app.get("/berths/{berth}", dependencies=[needs("berths.view", "berths.read")])
    def read_berth(berth: str) -> dict[str, Any]:
        return _found(berth)

    @app.put("/berths/{berth}/occupant", dependencies=[needs("berths.assign", "occupant.assign")])
    def assign(berth: str, ship: str) -> dict[str, Any]:
        found = _found(berth)
        found["occupant"] = ship
        return found

    @app.post("/berths/{berth}/closure", dependencies=[needs("berths.manage", "berth.close")])
    def close(berth: str) -> dict[str, Any]:
        found = _found(berth)
        found["closed"] = True
        return found

    @app.get("/arrivals", dependencies=[needs("arrivals.view", "arrivals.list")])
    def list_arrivals() -> dict[str, Any]:
        return {"items": ARRIVALS, "total": len(ARRIVALS)}

    return app


def _found(berth: str) -> dict[str, Any]:
    if berth not in BERTHS:
        raise HTTPException(404, f"there is no berth {berth}")
    return BERTHS[berth]


def main() -> None:
    """Serve on the port given as the only argument, with the settings of $JAMB_HOME/guards.json."""
    settings = json.loads((Path(os.environ["JAMB_HOME"]) / "guards.json").read_text())["berths"]
    uvicorn.run(create_berths(settings), host="127.0.0.1", port=int(sys.argv[1]), log_level="warning")


if __name__ == "__main__":
    main()
