"""One mail for all that a person has not heard yet: the worst first, by client, in plain text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jamb.core.notices.facts import NoticeKind

# In the order of the mail, with what stands above each part.
_PARTS: dict[NoticeKind, str] = {
    NoticeKind.SIGN_IN_LINK: "Choose your password: the link opens once",
    NoticeKind.LINK_TRIED: "Handover links in two hands",
    NoticeKind.ROTATION_DELIVERED: "New secrets for you: each link opens once",
    NoticeKind.EXPIRED_TRIED: "Still trying with an expired or withdrawn credential",
    NoticeKind.ROTATION_OVERDUE: "Rotations that are overdue",
    NoticeKind.ROTATION_UNSEEN: "New credentials that nothing uses yet",
    NoticeKind.REQUEST_WAITS: "Requests that wait for you",
    NoticeKind.REVIEW_ASKS: "What your clients hold is under review: please answer",
    NoticeKind.FINDING_GIVEN: "What you are asked to see to",
    NoticeKind.ENDS_SOON: "Credentials that expire soon",
    NoticeKind.REQUEST_DECIDED: "Requests that were decided",
    NoticeKind.ROTATION_OPENED: "Rotations opened",
    NoticeKind.ROTATION_ENDED: "Rotations done",
    NoticeKind.REVIEW_OVER: "Reviews that are over",
    NoticeKind.FINDING_ANSWERED: "Answers to what you gave to others",
    NoticeKind.DRY_RUN_OVER: "Dry runs that are over",
    NoticeKind.AUDIT_WEEKLY: "The audit, this week",
}
_COUNTED: dict[NoticeKind, tuple[str, str]] = {
    NoticeKind.SIGN_IN_LINK: ("sign-in link", "sign-in links"),
    NoticeKind.LINK_TRIED: ("handover link in two hands", "handover links in two hands"),
    NoticeKind.ROTATION_DELIVERED: ("new secret for you", "new secrets for you"),
    NoticeKind.ROTATION_UNSEEN: ("new credential unused", "new credentials unused"),
    NoticeKind.EXPIRED_TRIED: ("expired credential still tried", "expired credentials still tried"),
    NoticeKind.ROTATION_OVERDUE: ("rotation overdue", "rotations overdue"),
    NoticeKind.REQUEST_WAITS: ("request waits", "requests wait"),
    NoticeKind.ENDS_SOON: ("credential expires soon", "credentials expire soon"),
    NoticeKind.REQUEST_DECIDED: ("request decided", "requests decided"),
    NoticeKind.ROTATION_OPENED: ("rotation opened", "rotations opened"),
    NoticeKind.ROTATION_ENDED: ("rotation done", "rotations done"),
    NoticeKind.REVIEW_ASKS: ("client under review", "clients under review"),
    NoticeKind.REVIEW_OVER: ("review over", "reviews over"),
    NoticeKind.FINDING_GIVEN: ("finding for you", "findings for you"),
    NoticeKind.FINDING_ANSWERED: ("answer to a finding", "answers to findings"),
    NoticeKind.DRY_RUN_OVER: ("dry run over", "dry runs over"),
    NoticeKind.AUDIT_WEEKLY: ("weekly audit", "weekly audits"),
}
MOST_LINES = 100


@dataclass(frozen=True, slots=True)
class Digest:
    subject: str
    text: str


def digest(directory_name: str, person_name: str, base_url: str, told: Sequence[tuple[NoticeKind, str, str]]) -> Digest:
    """Return the mail. `told`: kind, words, and the path in the console of each."""
    by_kind: dict[NoticeKind, list[tuple[str, str]]] = {}
    for kind, words, path in told:
        by_kind.setdefault(kind, []).append((words, path))
    counted = [f"{len(by_kind[kind])} {_COUNTED[kind][len(by_kind[kind]) > 1]}" for kind in _PARTS if kind in by_kind]
    further = f" and {len(counted) - 2} more" if len(counted) > 2 else ""
    lines = [f"{person_name},", "", f"this is what is new for you in {directory_name}."]
    left = MOST_LINES
    for kind, title in _PARTS.items():
        if kind not in by_kind:
            continue
        lines += ["", title, "-" * len(title)]
        for words, path in by_kind[kind][:left]:
            lines += [f"* {words}", f"  {path if path.startswith(base_url) else base_url + path}"]
        if len(by_kind[kind]) > left:
            lines.append(f"* and {len(by_kind[kind]) - left} more: {base_url}/rotation")
        left = max(left - len(by_kind[kind]), 0)
    lines += ["", "You get this because you own these clients, or look after this directory.", ""]
    return Digest(f"{directory_name}: {', '.join(counted[:2])}{further}", "\n".join(lines))
