"""A progress bar on standard error, for work that takes its time."""

from __future__ import annotations

from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from jamb.cli.base.output import err


def progress() -> Progress:
    return Progress(
        TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(), console=err
    )
