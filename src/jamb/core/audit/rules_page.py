"""What the rules look for, as a page for people."""

from __future__ import annotations

from collections.abc import Sequence

from jamb.core.audit.findings import Family, Rule

_INTRODUCTION = """# What the audit looks for

Written from the rules themselves by `make api`. A finding names one client, its evidence, how bad it is, and a remedy.
Names in `this type` are settings of the directory's policy. The examples are held by tests.

## Terms

- **Works**: a credential works from its start to its end (at the moment of its end no more), while it is neither
  disabled nor withdrawn.
- **Holds**: a client holds a permission by a consent or by a role, from the moment it was given to its end. *As
  itself*: by consents of the kind application, and by roles; *for people*: by consents of the kind delegated. What a
  permission opens is all that it unlocks and that those unlock which it implies.
- **For so long**: what is to be so many days old is old enough at that moment, to the second.
- **Used**: a call that the guard of an API reported of an operation, by the client and of the kind. It counts for
  `use_counts_days`; and for the smallest permission held: one that is held beside another which it implies is used only
  by what the other does not open.
- **Watched**: what was given is watched from that moment on; where its API reported that it could not count all calls
  for a time, only from the end of that time on.
- **Weight**: of an operation, its effect (read 1, write 3, control 9) times the class of its data (open 1, internal 2,
  personal 4, restricted 8); of permissions, the sum over all operations that they open, each once, whatever the reach.
- **Seen at work**: when a credential of the client got a token last, or an API reported a call of it.
- **Granted permissions**: the client holds at least one, as itself or for people.
- **Looked back at**: rules that tell what was done before read the ledger: entries of less than 365 days, by a person
  or a client and not by Jamb itself, where nobody else had agreed to an act of the same person in the 90 days before.

Removed clients, and those that are part of Jamb itself, have no findings.
"""


def rules_page(rules: Sequence[Rule]) -> str:
    """Return what each rule looks for, as Markdown."""
    parts = [_INTRODUCTION]
    for family in Family:
        parts.append(f"\n## {family.value.capitalize()}\n")
        parts += [_on_page(rule) for rule in rules if rule.family is family]
    return "".join(parts)


def _on_page(rule: Rule) -> str:
    passed = f" Passed over: {'; '.join(rule.passed)}." if rule.passed else ""
    return (
        f"\n### {rule.title}\n\n`{rule.id}`. {rule.why}\n\n**When.** {rule.when}\n\n"
        f"**How bad.** {rule.how_bad}\n\n"
        f"**For example.** Found: {'; '.join(rule.found)}.{passed}\n\n*{rule.reference}*\n"
    )
