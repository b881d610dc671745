"""Text of one form each, as requests carry it: described with its pattern, judged in core with words of its own."""

from __future__ import annotations

import re
from typing import Annotated, Any

from pydantic import Field, SecretStr

from jamb.core.addresses import (
    HTTPS_PATTERN,
    LONGEST_ADDRESS,
    OWN_PAGE_PATTERN,
    REDIRECT_PATTERN,
    URI_PATTERN,
    WEB_PATTERN,
)
from jamb.core.clients.clients import DOMAIN
from jamb.core.credentials.handover import LONGEST_PASSPHRASE, SHORTEST_PASSPHRASE
from jamb.core.directory.people_list import LOGIN
from jamb.core.directory.roles import SHORT_NAME
from jamb.core.links import LINK_KEY
from jamb.core.permissions.catalogue import METHOD, OBJECT_NAME, PATH_TEMPLATE, PERMISSION_NAME
from jamb.core.reach.collections import PATH, PATH_LONGEST
from jamb.core.text import LINE_PATTERN, NAME_PATTERN, NOT_SEEN, SAID_PATTERN


def like(pattern: str | re.Pattern[str], *, or_nothing: bool = False) -> Any:
    """Describe a field's text by a pattern (ECMA-262). It is not matched here: the words of core say more."""
    text = pattern if isinstance(pattern, str) else f"^{pattern.pattern.removesuffix(chr(92) + 'Z')}$"
    return Field(json_schema_extra={"pattern": f"^$|{text}" if or_nothing else text})


# Why, for whoever reads it later: something must be said, or may be.
Said = Annotated[str, Field(min_length=1, max_length=500), like(SAID_PATTERN)]
MaybeSaid = Annotated[str, Field(max_length=500)]
Login = Annotated[str, Field(min_length=3, max_length=200), like(LOGIN)]
PermissionName = Annotated[str, Field(min_length=1, max_length=80), like(PERMISSION_NAME)]
CollectionPath = Annotated[str, Field(min_length=1, max_length=PATH_LONGEST), like(PATH)]
PublisherDomain = Annotated[str, Field(max_length=253), like(DOMAIN, or_nothing=True)]
HttpsAddress = Annotated[str, Field(max_length=LONGEST_ADDRESS), like(HTTPS_PATTERN)]
MaybeHttpsAddress = Annotated[str, Field(max_length=LONGEST_ADDRESS), like(HTTPS_PATTERN, or_nothing=True)]
MaybeWebAddress = Annotated[str, Field(max_length=LONGEST_ADDRESS), like(WEB_PATTERN, or_nothing=True)]
Identifier = Annotated[str, Field(min_length=1, max_length=300), like(URI_PATTERN)]
# Of the application itself: by https, or http at a loopback address.
MaybeOwnPage = Annotated[str, Field(max_length=400), like(OWN_PAGE_PATTERN, or_nothing=True)]
RedirectUri = Annotated[str, Field(max_length=400), like(REDIRECT_PATTERN)]
ObjectName = Annotated[str, Field(max_length=40), like(OBJECT_NAME, or_nothing=True)]
Method = Annotated[str, Field(max_length=10), like(METHOD, or_nothing=True)]
PathTemplate = Annotated[str, Field(max_length=300), like(PATH_TEMPLATE, or_nothing=True)]
ShortName = Annotated[str, Field(min_length=1, max_length=60), like(SHORT_NAME)]
LinkKey = Annotated[SecretStr, Field(max_length=100), like(LINK_KEY)]
Passphrase = Annotated[
    SecretStr,
    Field(max_length=LONGEST_PASSPHRASE),
    like(f"^$|^[^{NOT_SEEN}]{{{SHORTEST_PASSPHRASE},{LONGEST_PASSPHRASE}}}$"),
]
# Of a name that people give: something that is seen, and no two look the same.
NAMED = like(NAME_PATTERN)

__all__ = [
    "LINE_PATTERN",
    "NAMED",
    "CollectionPath",
    "HttpsAddress",
    "Identifier",
    "LinkKey",
    "Login",
    "MaybeHttpsAddress",
    "MaybeOwnPage",
    "MaybeSaid",
    "MaybeWebAddress",
    "Method",
    "ObjectName",
    "Passphrase",
    "PathTemplate",
    "PermissionName",
    "PublisherDomain",
    "RedirectUri",
    "Said",
    "ShortName",
    "like",
]
