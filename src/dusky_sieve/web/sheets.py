"""The light table: looking at what was read, correcting it, vouching for it."""

import math
from typing import Annotated

from fastapi import APIRouter, Depends, Form, Request
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.reading import MarkState, marks_within
from dusky_sieve.store import PrinterRecord, SheetRecord, Store
from dusky_sieve.web import present
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form

router = APIRouter()


@router.get("/sheets/{sheet_id}")
def light_table(
    request: Request, sheet_id: int, known: bool = False, look: str = "", lamp: str = "", only: str = "", against: int = 0, lattice: bool = False
) -> Response:  # fmt: skip
    """The straightened photo with what was read drawn over it, and the mesh of every channel."""
    store = request.app.state.store
    sheet, record = _sheet(store, sheet_id)
    channels = {b.channel for b in record.layout.blocks}
    looking = present.Looking(
        look[:80], lamp if lamp in ("light", "dark") else "", only if only in channels else "", against, lattice
    )
    return page(
        request,
        "light_table.html",
        sheet=sheet,
        record=record,
        photos=services.photos_of(store, sheet),
        table=present.light_table(store, record, sheet, looking),
        known=known,
        missing=present.missing_backings(record, sheet),
        waiting=[s for s in present.waiting_sheets(store, record) if s.id != sheet.id],
    )


@router.post("/sheets/{sheet_id}/marks", dependencies=[Depends(own_form)])
def correct(
    request: Request,
    sheet_id: int,
    state: Annotated[MarkState, Form()],
    block: Annotated[str, Form()] = "",
    numbers: Annotated[str, Form()] = "",
    channel: Annotated[str, Form()] = "",
    box: Annotated[str, Form()] = "",
    whole: Annotated[bool, Form()] = False,
    back: Annotated[str, Form()] = "",
) -> Response:
    """Sets marks as a person sees them: by number, a whole block or channel, or all within a box of sheet mm."""
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        sheet, record = _sheet(store, sheet_id)
        if box:
            chosen = marks_within(record.layout, _box(box))
            if not chosen:
                raise UnusableInput("No mark lies in that box. Draw it over the marks that you mean.")
        elif channel:
            chosen = services.marks_of_channel(record, channel)
        elif whole or numbers.strip():
            chosen = services.marks_named(record, block, "" if whole else numbers)
        else:
            raise UnusableInput(
                "No mark was named: type numbers such as 40-43, 97, or say that it is the whole channel."
            )
        services.correct_marks(store, sheet, chosen, state, request.app.state.settings.person, now)
    return go(f"/sheets/{sheet_id}{_query(back)}")


@router.post("/sheets/{sheet_id}/undo", dependencies=[Depends(own_form)])
def undo(
    request: Request, sheet_id: int, again: Annotated[bool, Form()] = False, back: Annotated[str, Form()] = ""
) -> Response:
    """Takes the last correction back, or puts it on again."""
    store = request.app.state.store
    with request.app.state.turn:
        sheet, _ = _sheet(store, sheet_id)
        services.take_back(store, sheet, again=again)
    return go(f"/sheets/{sheet_id}{_query(back)}")


@router.post("/sheets/{sheet_id}/corners", dependencies=[Depends(own_form)])
def corners(
    request: Request, sheet_id: int, points: Annotated[str, Form()], place: Annotated[int, Form()] = 0
) -> Response:
    """Reads the photo again from four corners marked by hand."""
    store = request.app.state.store
    marked = tuple(_numbers(point, 2) for point in points.split())
    if len(marked) != 4:
        raise UnusableInput("Four corners: mark the pattern's top left corner first, then on clockwise.")
    with request.app.state.turn:
        sheet, _ = _sheet(store, sheet_id)
        services.read_by_corners(store, sheet, marked, place)
    return go(f"/sheets/{sheet_id}")


@router.post("/sheets/{sheet_id}/accept", dependencies=[Depends(own_form)])
def accept(request: Request, sheet_id: int) -> Response:
    """Vouches for the reading and goes to what it means. Sent twice it leads to the same place."""
    store = request.app.state.store
    with request.app.state.turn:
        sheet, record = _sheet(store, sheet_id)
        case_id = services.accept_sheet(store, sheet, request.app.state.settings.person, request.app.state.clock())
    return go(f"/cases/{case_id}/next" if case_id else f"/printers/{record.slug}?clear=1")


def _sheet(store: Store, sheet_id: int) -> tuple[SheetRecord, PrinterRecord]:
    sheet = services.find_sheet(store, sheet_id)
    record = store.printer_by_id(sheet.printer_id)
    assert record is not None  # the sheet's foreign key holds
    return sheet, record


def _query(back: str) -> str:
    """The way somebody was looking, where it is one of ours."""
    return back if back.startswith("?") and len(back) < 300 and "\n" not in back else ""


def _numbers(text: str, count: int) -> tuple[float, ...]:
    try:
        found = tuple(float(v) for v in text.split(","))
    except ValueError:
        found = ()
    if len(found) != count or not all(math.isfinite(v) for v in found):
        raise UnusableInput(f"“{text[:40]}”: expected {count} figures with commas between. Mark it on the picture.")
    return found


def _box(text: str) -> tuple[float, float, float, float]:
    a, b, c, d = _numbers(text, 4)
    return min(a, c), min(b, d), max(a, c), max(b, d)
