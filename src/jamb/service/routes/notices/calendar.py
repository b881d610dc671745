"""Calendar feeds: make one; and read it, by its address alone, as calendar programs do (RFC 5545)."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated

from fastapi.responses import Response
from icalendar import Alarm, Calendar, Event

from jamb.actions.base.act import Act
from jamb.actions.notices import calendar
from jamb.service.callers import Now, TheRuntime, may
from jamb.service.http.routing import api_router
from jamb.wire.notices import notices as wire

router = api_router(tags=["notices"])
_WARNED_BEFORE = timedelta(days=7)


@router.post("/api/v1/directories/{directory}/calendar", status_code=201)
def make_calendar(
    sent: wire.NewCalendar, act: Annotated[Act, may("calendar.make")], runtime: TheRuntime
) -> wire.CalendarFeed:
    """Make a calendar feed of one's own clients, or of the whole directory. The one before ends."""
    key = calendar.make_feed(act, sent.whole)
    return wire.CalendarFeed(url=f"{runtime.backend.issuer(act.directory.slug)}/calendar/{key}.ics", whole=sent.whole)


@router.get("/d/{directory}/calendar/{key}.ics", include_in_schema=False)
def read_calendar(directory: str, key: str, runtime: TheRuntime, now: Now) -> Response:
    """The feed. Its address is the key to it, for calendar programs know no other; it shows hints and days alone."""
    found = calendar.read_feed(runtime.backend, directory, key, now)
    made = Calendar()
    made.add("prodid", "-//Jamb//Credentials//EN")
    made.add("version", "2.0")
    made.add("method", "PUBLISH")
    made.add("x-wr-calname", found.name)
    made.add("refresh-interval", timedelta(hours=6), parameters={"value": "DURATION"})
    for one in found.entries:
        event = Event()
        event.add("uid", f"{one.key}@{directory}.jamb")
        event.add("dtstamp", now)
        # A whole day: what expires at noon is best done by the day before.
        event.add("dtstart", one.on.date())
        event.add("summary", one.words)
        event.add("description", f"{one.detail}\n{one.on:%Y-%m-%d %H:%M} UTC\n{runtime.backend.base_url}{one.path}")
        event.add("transp", "TRANSPARENT")
        alarm = Alarm()
        alarm.add("action", "DISPLAY")
        alarm.add("description", one.words)
        alarm.add("trigger", -_WARNED_BEFORE)
        event.add_component(alarm)
        made.add_component(event)
    headers = {"Cache-Control": "private, max-age=600", "Referrer-Policy": "no-referrer"}
    return Response(made.to_ical(), media_type="text/calendar; charset=utf-8", headers=headers)
