"""A report of the audit in the form that was asked for."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from jamb import __version__
from jamb.actions.base.act import Act
from jamb.core.audit.evaluate import RULES
from jamb.core.audit.excess import Excess
from jamb.core.audit.report_page import TALL, WIDE, report_page
from jamb.core.audit.reports import Reported, ReportForm, report
from jamb.service.pages import render


def write_report(form: ReportForm, act: Act, found: Sequence[Reported], history: Sequence[tuple[date, Excess]]) -> str:
    """Return the report as text, of what was found."""
    if form is ReportForm.HTML:
        page = report_page(act.directory.name, RULES, found, act.as_of, history)
        return render("audit-report.html", page=page, version=__version__, wide=WIDE, tall=TALL)
    return report(form, act.slug, __version__, RULES, found, act.as_of)
