"""Of one request: the time that it has, and what a collector of traces is told of it."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.trace.v1.trace_pb2 import Span

from tests import patient
from tests.world import BERTHS, World, unique, wait_until

HERE = "/api/v1/directories/quillhaven"
SENT = {"name": "Not in time", "purpose": "Is never made", "kind": "service", "owners": []}


def test_a_request_that_takes_too_long_ends_with_nothing_half_done(world: World) -> None:
    headers = {"Authorization": f"Bearer {world.token('steward')}"}
    with world.second_process(JAMB_REQUEST_SECONDS="0.001") as url, httpx.Client(headers=headers, timeout=60) as http:
        for answer in (http.get(f"{url}{HERE}/clients"), http.post(f"{url}{HERE}/clients", json=SENT)):
            assert (answer.status_code, answer.headers["Retry-After"]) == (503, "1")
            assert "longer than 0.001 seconds" in answer.json()["detail"]
        assert http.get(f"{url}/ready").status_code == 200, "others are not held up by it"
    with world.jamb() as jamb:
        assert SENT["name"] not in {one.name for one in jamb.clients.list()}


@contextmanager
def collector() -> Iterator[tuple[str, list[Span]]]:
    """A collector of traces (OTLP over HTTP) on loopback, and the spans that it was sent."""
    spans: list[Span] = []

    class Taking(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            sent = ExportTraceServiceRequest.FromString(self.rfile.read(int(self.headers["Content-Length"])))
            spans.extend(span for of in sent.resource_spans for scope in of.scope_spans for span in scope.spans)
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Taking)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}", spans
    finally:
        server.shutdown()
        server.server_close()


def attributes(span: Span) -> dict[str, str]:
    return {one.key: one.value.string_value or str(one.value.int_value) for one in span.attributes}


def test_traces_go_to_a_collector_with_the_usual_names_and_no_value(world: World) -> None:
    made, caller, name = world.client(granted=["berths.view"]), "4bf92f3577b34da6a3ce929d0e0e4736", unique("Traced")
    headers = {
        "Authorization": f"Bearer {world.token('steward')}",
        "traceparent": f"00-{caller}-00f067aa0ba902b7-01",
    }
    with collector() as (url, spans):
        settings = {"OTEL_EXPORTER_OTLP_ENDPOINT": url, "OTEL_BSP_SCHEDULE_DELAY": "100", "OTEL_SERVICE_NAME": "jamb"}
        with world.second_process(**settings) as service:
            body = {**SENT, "name": name}
            assert patient.post(f"{service}{HERE}/clients", json=body, headers=headers).status_code == 201
            form = {
                "grant_type": "client_credentials",
                "client_id": made.id,
                "client_secret": made.secret,
                "resource": BERTHS,
            }
            assert (
                patient.post(
                    f"{service}/d/quillhaven/token", data=form, headers={"traceparent": headers["traceparent"]}
                ).status_code
                == 200
            )
            patient.get(f"{service}/d/quillhaven/calendar/not-to-be-told.ics")
            wait_until(lambda: sum(span.kind == Span.SPAN_KIND_SERVER for span in spans) >= 2)
    asked = [span for span in spans if span.kind == Span.SPAN_KIND_SERVER and span.trace_id.hex() == caller]
    assert sorted(span.name for span in asked) == [
        "POST /api/v1/directories/{directory}/clients",
        "POST /d/{directory}/token",
    ]
    assert {attributes(span)["http.response.status_code"] for span in asked} == {"201", "200"}
    statements = [span for span in spans if span.trace_id.hex() == caller and span.kind == Span.SPAN_KIND_CLIENT]
    assert {"SELECT", "INSERT"} <= {span.name for span in statements}
    assert all(attributes(span)["db.system.name"] == "postgresql" for span in statements)
    told = repr(spans)
    for value in (name, made.secret, "not-to-be-told", "Bearer"):
        assert value not in told
