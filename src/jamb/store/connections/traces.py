"""Spans of statements (OpenTelemetry semantic conventions for databases): never the values that they are run with."""

from __future__ import annotations

from typing import Any

from opentelemetry import trace
from sqlalchemy import Engine, event

_tracer = trace.get_tracer("jamb.store")
LONGEST_TEXT = 2_000


def trace_statements(engine: Engine) -> None:
    """Make a span of each statement of this engine, within the request that runs it."""

    @event.listens_for(engine, "before_cursor_execute")
    def _begin(_connection: Any, _cursor: Any, statement: str, _values: Any, context: Any, _many: bool) -> None:
        operation = statement.split(maxsplit=1)[0].upper()
        context.span = _tracer.start_span(
            operation,
            kind=trace.SpanKind.CLIENT,
            attributes={
                "db.system.name": "postgresql",
                "db.operation.name": operation,
                "db.query.text": statement[:LONGEST_TEXT],
            },
        )

    @event.listens_for(engine, "after_cursor_execute")
    def _end(_connection: Any, _cursor: Any, _statement: str, _values: Any, context: Any, _many: bool) -> None:
        context.span.end()

    @event.listens_for(engine, "handle_error")
    def _failed(failure: Any) -> None:
        span = getattr(failure.execution_context, "span", None)
        if span is not None:
            span.set_status(trace.StatusCode.ERROR)
            span.set_attribute(
                "error.type",
                getattr(failure.original_exception, "sqlstate", None) or type(failure.original_exception).__name__,
            )
            span.end()
