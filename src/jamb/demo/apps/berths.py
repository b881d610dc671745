"""The stand-in Berths API: made-up berths behind a real guard. Its collections are the quays."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Depends, HTTPException, Query, Request, Response

from jamb.demo.paging import page_of
from jamb.guard import Guard, TokenClaims

QUAYS = {"north": 14, "south": 17, "fuel": 6}
_SHIPS = ("Marit Elise", "Corvina", "Old Tern", "Havørn", "Santa Ludmila", "Brisling IV", "Pallas", "Kestrel of Rye")
BERTHS: dict[str, dict[str, Any]] = {
    f"{quay}-{number}": {
        "berth": f"{quay}-{number}",
        "quay": quay,
        "metres": 60 + 15 * (number % 7),
        "occupant": _SHIPS[(number * 3 + len(quay)) % len(_SHIPS)] if number % 3 else None,
        "closed": False,
    }
    for quay, count in QUAYS.items()
    for number in range(1, count + 1)
}
ARRIVALS = [{"ship": ship, "quay": list(QUAYS)[place % 3], "hour": 5 + 2 * place} for place, ship in enumerate(_SHIPS)]


def berths_router(guard: Guard) -> APIRouter:
    router = APIRouter()
    sees = Depends(guard.requires("berths.view", operation="berths.list"))

    def needs(permission: str, operation: str, object_in: str = "berth") -> Any:
        return Depends(guard.requires(permission, operation=operation, object_in=object_in))

    @router.get("/berths")
    def list_berths(
        request: Request,
        response: Response,
        claims: TokenClaims = sees,
        after: str = "",
        limit: Annotated[int, Query(ge=1, le=50)] = 10,
    ) -> dict[str, Any]:
        visible = [name for name in BERTHS if claims.reaches("berths.view", name)]
        shown = page_of(visible, after, limit, request, response)
        return {"items": [BERTHS[name] for name in shown], "total": len(visible)}

    @router.get("/berths/{berth}", dependencies=[needs("berths.view", "berths.read")])
    def read_berth(berth: str) -> dict[str, Any]:
        return _found(berth)

    @router.put("/berths/{berth}/occupant", dependencies=[needs("berths.assign", "occupant.assign")])
    def assign(berth: str, ship: str) -> dict[str, Any]:
        found = _found(berth)
        found["occupant"] = ship
        return found

    @router.post("/berths/{berth}/closure", dependencies=[needs("berths.manage", "berth.close")])
    def close(berth: str) -> dict[str, Any]:
        found = _found(berth)
        found["closed"] = True
        return found

    @router.get("/arrivals", dependencies=[needs("arrivals.view", "arrivals.list", "")])
    def list_arrivals() -> dict[str, Any]:
        return {"items": ARRIVALS, "total": len(ARRIVALS)}

    return router


def _found(berth: str) -> dict[str, Any]:
    if berth not in BERTHS:
        raise HTTPException(404, f"there is no berth {berth}")
    return BERTHS[berth]
