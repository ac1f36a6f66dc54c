"""The calendar: what is due over all printers, what was said about it, and the feed that calendars subscribe to."""

from datetime import datetime, time
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Form, Request
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.upkeep import TaskName
from dusky_sieve.core.upkeep.plan import TASKS
from dusky_sieve.web import present
from dusky_sieve.web.figures import figure
from dusky_sieve.web.pages import go, here, page
from dusky_sieve.web.phone import own_address
from dusky_sieve.web.security import own_form

router = APIRouter()
MORNING = time(9, 0)  # of a day that something is moved to


@router.get("/calendar")
def calendar(request: Request, month: str = "") -> Response:
    """What is due now, today, this week; the month below it."""
    store, now, settings = request.app.state.store, request.app.state.clock(), request.app.state.settings
    host = own_address() if settings.phones else settings.host
    address = f"http://{host}:{settings.port}/feed/{services.feed_secret(store)}.ics"
    return page(
        request,
        "calendar.html",
        view=present.calendar(store, now, here(), month),
        feed=address,
    )


@router.post("/printers/{slug}/upkeep/{name}", dependencies=[Depends(own_form)])
def say(
    request: Request,
    slug: str,
    name: TaskName,
    what: Annotated[Literal["done", "skipped", "moved", "undo"], Form()],
    until: Annotated[str, Form()] = "",
    reason: Annotated[str, Form()] = "",
) -> Response:
    """Keeps that a task was done, skipped with a reason, moved to a day; or takes the last such word back."""
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        record = services.find_printer(store, slug)
        if what == "undo":
            if not store.forget_upkeep(record.id, name):
                raise UnusableInput("Nothing was said about this task that could be taken back.")
        else:
            person = request.app.state.settings.person
            services.say_of_task(store, record, name, what, person, now, until=_day(until), reason=reason)
    return go(f"/calendar#{slug}-{name}")


@router.post("/printers/{slug}/intervals", dependencies=[Depends(own_form)])
async def intervals(request: Request, slug: str) -> Response:
    """Sets a printer's own intervals, in days; 0 for never, empty for what its kind asks for."""
    store, form = request.app.state.store, await request.form()
    record = services.find_printer(store, slug)
    typed = {name: figure(f"{name}, days", str(form.get(name, "")), None) for name in TASKS}
    services.keep_intervals(store, record, {name: days for name, days in typed.items() if days is not None})
    return go("/calendar")


@router.post("/calendar/secret", dependencies=[Depends(own_form)])
def renew(request: Request) -> Response:
    """A new address for the feed; whoever had the old one is shut out."""
    services.feed_secret(request.app.state.store, renew=True)
    return go("/calendar#feed")


@router.get("/feed/{code}.ics")
def feed(request: Request, code: str) -> Response:
    """The agenda for a calendar program."""
    store, now = request.app.state.store, request.app.state.clock()
    content = services.feed(store, code, now, here(), request.app.state.settings.room)
    return Response(content, media_type="text/calendar; charset=utf-8", headers={"Cache-Control": "no-store"})


def _day(text: str) -> datetime | None:
    if not text.strip():
        return None
    try:
        return datetime.combine(datetime.fromisoformat(text).date(), MORNING, here())
    except ValueError:
        raise UnusableInput(f"“{text[:20]}” is no day: choose one that lies ahead.") from None
