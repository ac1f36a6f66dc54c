"""The phone's own page for one sheet, paired by a code on the desk's screen for a short time."""

import socket
from collections.abc import AsyncIterator
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Annotated

import anyio
import segno
from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from fastapi.sse import EventSourceResponse, ServerSentEvent
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import OutOfTurn, UnknownThing
from dusky_sieve.store import PhoneRecord, PrinterRecord
from dusky_sieve.web import present
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form
from dusky_sieve.web.uploads import take, uploads_of

router = APIRouter()
LOOK_EVERY = 0.4  # seconds between two looks at how far the other screen is


@dataclass(frozen=True)
class Code:
    """What the desk shows: the address as a drawing and in letters, and the desk's own secret for its events."""

    secret: str
    address: str
    svg: str


@cache
def own_address() -> str:
    """This machine's address on its network, found without sending anything; loopback where it has none."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe:
        try:
            probe.connect(("198.51.100.1", 9))  # an address kept for documents: no packet leaves for a datagram socket
            return str(probe.getsockname()[0])
        except OSError:
            return "127.0.0.1"


def code_for(request: Request, record: PrinterRecord, now: datetime) -> Code | None:
    """A new pairing for a printer's next sheet; None where the owner did not open the page to phones."""
    settings = request.app.state.settings
    if not settings.phones:
        return None
    secret = services.pair_phone(request.app.state.store, record, now)
    address = f"http://{own_address()}:{settings.port}/phone/{secret}"
    drawn = segno.make(address, error="m").svg_inline(scale=4, border=2, dark="#1a2230", light="#ffffff", svgclass="qr")
    return Code(secret, address, drawn)


@router.get("/phone/{code}")
def phone_page(request: Request, code: str) -> Response:
    """The phone's page: take the photo, see what was read, take it again."""
    phone, record = _paired(request, code)
    if phone.state == "waiting":
        request.app.state.store.phone_says(phone.digest, "open")
    view = present.phone_view(request.app.state.store, record, phone, request.app.state.clock())
    return page(request, "phone.html", record=record, secret_in=code, view=view, until=phone.until)


@router.post("/phone/{code}", dependencies=[Depends(own_form)])
def phone_photo(
    request: Request,
    code: str,
    photo: Annotated[UploadFile, File()],
    backing: Annotated[str, Form()] = "light",
    onto: Annotated[int, Form()] = 0,
) -> Response:
    """Keeps and reads the phone's photo; both screens learn of it."""
    phone, record = _paired(request, code)
    store = request.app.state.store
    store.phone_says(phone.digest, "reading")
    try:
        arrival = take(request, record, [uploads_of([photo], "dark" if backing == "dark" else "light")], onto)[0]
    except Exception:
        store.phone_says(phone.digest, "open")
        raise
    store.phone_says(phone.digest, "read", arrival.sheet_id)
    return go(f"/phone/{code}")


@router.post("/phone/{code}/accept", dependencies=[Depends(own_form)])
def phone_accept(request: Request, code: str) -> Response:
    """Vouches from the phone for the sheet that it sent."""
    phone, _ = _paired(request, code)
    store, person = request.app.state.store, request.app.state.settings.person
    if phone.sheet_id is None:
        raise OutOfTurn("No sheet came from this phone yet. Take the photo first.")
    with request.app.state.turn:
        services.accept_sheet(store, services.find_sheet(store, phone.sheet_id), person, request.app.state.clock())
    return go(f"/phone/{code}")


@router.get("/phone/{code}/events", response_class=EventSourceResponse)
async def phone_events(request: Request, code: str) -> AsyncIterator[ServerSentEvent]:
    """How far the pairing is, each time it changes: waiting, open, reading, read, accepted, over."""
    last = ""
    while not await request.is_disconnected():
        try:
            phone, record = await anyio.to_thread.run_sync(_paired, request, code)
        except UnknownThing:
            yield ServerSentEvent(event="state", data={"state": "over"})
            return
        view = await anyio.to_thread.run_sync(
            present.phone_view, request.app.state.store, record, phone, request.app.state.clock()
        )
        if view.mark != last:
            last = view.mark
            state = "accepted" if view.accepted else phone.state
            yield ServerSentEvent(event="state", data={"state": state, "sheet": view.sheet_id, "mark": last})
        await anyio.sleep(LOOK_EVERY)


def _paired(request: Request, code: str) -> tuple[PhoneRecord, PrinterRecord]:
    store = request.app.state.store
    phone = services.paired_phone(store, code, request.app.state.clock())
    record = store.printer_by_id(phone.printer_id)
    assert record is not None  # the pairing's foreign key holds
    return phone, record
