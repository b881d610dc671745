"""Every table, gathered for migrations and for the check that the two agree."""

from importlib import import_module
from pkgutil import walk_packages

from sqlmodel import SQLModel

import jamb.store

# A table is known once its module was imported: all are, so that none is missed.
for _found in walk_packages(jamb.store.__path__, "jamb.store."):
    if not _found.ispkg and ".migrations" not in _found.name and _found.name != __name__:
        import_module(_found.name)

METADATA = SQLModel.metadata

__all__ = ["METADATA"]
