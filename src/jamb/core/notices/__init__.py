"""Notices: what people must hear of, when, and in which words."""

from jamb.core.notices.digest import Digest, digest
from jamb.core.notices.facts import Audience, Fact, NoticeKind, coming_of_stage, is_urgent, stage_of, wait_after

__all__ = [
    "Audience",
    "Digest",
    "Fact",
    "NoticeKind",
    "coming_of_stage",
    "digest",
    "is_urgent",
    "stage_of",
    "wait_after",
]
