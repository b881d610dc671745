"""Background work: found and carried by any number of processes, through a queue in the database."""

from jamb.service.work.queue import working

__all__ = ["working"]
