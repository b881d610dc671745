"""The floor: the same server stack, and only what nobody could leave out of a token request, or of a read.

A plain route of a FastAPI application that parses the form by hand, does one indexed read on the driver, makes one
ES256 signature, and writes one record in a group.
"""

from __future__ import annotations

import asyncio
import os
import sys
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from typing import Any
from urllib.parse import parse_qsl

import jwt
import orjson
import uvicorn
from cryptography.hazmat.primitives.asymmetric import ec
from fastapi import FastAPI, Request
from fastapi.responses import Response
from psycopg import AsyncConnection
from psycopg_pool import AsyncConnectionPool

READ = "SELECT id, kind, state FROM client WHERE id = %(client)s"
WRITE = "INSERT INTO floor_record (client, at) SELECT * FROM unnest(%b::text[], %b::float8[])"
GROUP_SECONDS = 0.25


def create_floor(url: str) -> FastAPI:
    pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]] = AsyncConnectionPool(
        url, min_size=1, max_size=8, open=False, kwargs={"autocommit": True}
    )
    key = ec.generate_private_key(ec.SECP256R1())
    kept: list[tuple[str, float]] = []

    async def write() -> None:
        while True:
            await asyncio.sleep(GROUP_SECONDS)
            if kept:
                rows, kept[:] = list(kept), []
                async with pool.connection() as connection:
                    await connection.execute(WRITE, [[row[0] for row in rows], [row[1] for row in rows]], prepare=True)

    @asynccontextmanager
    async def life(_app: FastAPI) -> AsyncIterator[None]:
        await pool.open(wait=True)
        async with pool.connection() as connection:
            await connection.execute("CREATE TABLE IF NOT EXISTS floor_record (client text, at float8)")
        task = asyncio.create_task(write())
        yield
        task.cancel()
        with suppress(asyncio.CancelledError):
            await task
        await pool.close()

    app = FastAPI(lifespan=life, docs_url=None, redoc_url=None)

    async def token(request: Request) -> Response:
        directory = request.path_params["directory"]
        form = dict(parse_qsl((await request.body()).decode()))
        async with pool.connection() as connection:
            cursor = await connection.execute(READ, {"client": form["client_id"]}, prepare=True, binary=True)
            row = (await cursor.fetchall())[0]
        now = time.time()
        claims = {"iss": directory, "sub": row[0], "scope": form["grant_type"], "iat": int(now), "exp": int(now) + 600}
        signed = jwt.encode(claims, key, "ES256")
        kept.append((row[0], now))
        return Response(orjson.dumps({"access_token": signed, "expires_in": 600}), media_type="application/json")

    async def read(request: Request) -> Response:
        async with pool.connection() as connection:
            cursor = await connection.execute(
                READ, {"client": request.path_params["client"]}, prepare=True, binary=True
            )
            row = (await cursor.fetchall())[0]
        return Response(orjson.dumps({"id": row[0], "kind": row[1], "state": row[2]}), media_type="application/json")

    app.add_route("/read/{client}", read)
    app.add_route("/d/{directory}/token", token, methods=["POST"])
    return app


if __name__ == "__main__":
    uvicorn.run(create_floor(os.environ["FLOOR_DATABASE_URL"]), port=int(sys.argv[1]), log_level="warning")
