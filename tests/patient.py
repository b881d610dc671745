"""The calls of httpx with patience: how busy a machine is is no property of the service."""

from __future__ import annotations

from functools import partial

import httpx

PATIENCE = 120

get = partial(httpx.get, timeout=PATIENCE)
post = partial(httpx.post, timeout=PATIENCE)
put = partial(httpx.put, timeout=PATIENCE)
patch = partial(httpx.patch, timeout=PATIENCE)
delete = partial(httpx.delete, timeout=PATIENCE)
request = partial(httpx.request, timeout=PATIENCE)
Client = partial(httpx.Client, timeout=PATIENCE)
