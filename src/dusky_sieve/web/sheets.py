"""Sheet in, and the light table."""

import math
from typing import Annotated
from urllib.parse import quote

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from starlette.responses import Response

from dusky_sieve import files, services
from dusky_sieve.core.errors import UnknownThing, UnusableInput
from dusky_sieve.core.layout import Backing, MarksBlock
from dusky_sieve.core.reading import MarkState
from dusky_sieve.drawing import straight
from dusky_sieve.store import PhotoRecord, PrinterRecord, SheetRecord, Store
from dusky_sieve.web import present
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form

router = APIRouter()


@router.get("/printers/{slug}/sheet-in")
def sheet_in(request: Request, slug: str) -> Response:
    """Before printing, and the photo."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    return page(
        request,
        "sheet_in.html",
        record=record,
        band=present.band(store, record, now),
        backings=sorted({b.backing for b in record.layout.blocks}, reverse=True),
    )


@router.post("/printers/{slug}/sheets", dependencies=[Depends(own_form)])
def photo_in(
    request: Request, slug: str, photo: Annotated[UploadFile, File()], backing: Annotated[str, Form()] = "light"
) -> Response:
    """Keeps an uploaded photo, reads it, and leads to the light table."""
    store = request.app.state.store
    record = services.find_printer(store, slug)
    content = photo.file.read(files.MAX_PHOTO_BYTES + 1)
    name = (photo.filename or "photo").rsplit("/", 1)[-1].rsplit("\\", 1)[-1][:120]
    with request.app.state.turn:
        side: Backing = "dark" if backing == "dark" else "light"
        arrival = services.take_photo(
            store, record, content, name, side, request.app.state.settings.person, request.app.state.clock()
        )
    return go(f"/sheets/{arrival.sheet_id}" + ("?known=1" if arrival.known else ""))


@router.get("/sheets/{sheet_id}")
def light_table(request: Request, sheet_id: int, known: bool = False, look: str = "") -> Response:
    """The straightened photo with what was read drawn over it, and the mesh of every channel."""
    store, now = request.app.state.store, request.app.state.clock()
    sheet, record, photo = _sheet(store, sheet_id)
    table = present.light_table(store, record, sheet, look)
    return page(
        request,
        "light_table.html",
        sheet=sheet,
        record=record,
        photo=photo,
        table=table,
        known=known,
        band=present.band(store, record, now),
    )


@router.post("/sheets/{sheet_id}/marks", dependencies=[Depends(own_form)])
def correct(
    request: Request,
    sheet_id: int,
    block: Annotated[str, Form()],
    state: Annotated[MarkState, Form()],
    numbers: Annotated[str, Form()] = "",
    whole: Annotated[bool, Form()] = False,
    look: Annotated[str, Form()] = "",
) -> Response:
    """Sets marks as a person sees them, one, many or the whole block."""
    store, now = request.app.state.store, request.app.state.clock()
    if not numbers.strip() and not whole:
        raise UnusableInput("No mark was named: type numbers such as 40-43, 97, or say that it is the whole channel.")
    with request.app.state.turn:
        sheet, _, _ = _sheet(store, sheet_id)
        services.correct_marks(
            store, sheet, block, "" if whole else numbers, state, request.app.state.settings.person, now
        )
    return go(f"/sheets/{sheet_id}" + (f"?look={quote(look)}#loupe" if look else "#correct"))


@router.post("/sheets/{sheet_id}/undo", dependencies=[Depends(own_form)])
def undo(request: Request, sheet_id: int, again: Annotated[bool, Form()] = False) -> Response:
    """Takes the last correction back, or puts it on again."""
    store = request.app.state.store
    with request.app.state.turn:
        sheet, _, _ = _sheet(store, sheet_id)
        services.take_back(store, sheet, again=again)
    return go(f"/sheets/{sheet_id}#correct")


@router.post("/sheets/{sheet_id}/corners", dependencies=[Depends(own_form)])
def corners(request: Request, sheet_id: int, points: Annotated[str, Form()]) -> Response:
    """Reads the photo again from four corners marked by hand."""
    store = request.app.state.store
    try:
        marked = tuple(tuple(float(v) for v in point.split(",")) for point in points.split())
    except ValueError:
        marked = ()
    if len(marked) != 4 or any(len(p) != 2 or not all(math.isfinite(v) for v in p) for p in marked):
        raise UnusableInput("Four corners: mark the pattern's top left corner first, then on clockwise.")
    with request.app.state.turn:
        sheet, _, _ = _sheet(store, sheet_id)
        services.read_by_corners(store, sheet, marked)
    return go(f"/sheets/{sheet_id}")


@router.get("/printers/{slug}/told")
def tell_sheet(request: Request, slug: str) -> Response:
    """A sheet without a photo: faults typed channel by channel."""
    record = services.find_printer(request.app.state.store, slug)
    return page(request, "told.html", record=record)


@router.post("/printers/{slug}/told", dependencies=[Depends(own_form)])
async def told(request: Request, slug: str) -> Response:
    """Keeps the faults that somebody typed and goes to what they mean."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    form = await request.form()
    typed = {
        c.name: {field: str(form.get(f"{field}-{k}", "")) for field in ("missing", "weak", "deflected", "absent")}
        for k, c in enumerate(record.printer.channels)
        if form.get(f"seen-{k}")
    }
    with request.app.state.turn:
        once = str(form.get("once", ""))
        to = store.went_to(once) if once else None
        if to is None:
            sheet_id, case_id = services.told_by_hand(store, record, typed, request.app.state.settings.person, now)
            to = f"/cases/{case_id}/next" if case_id else f"/sheets/{sheet_id}"
            if once:
                store.remember_form(once, to, now)
    return go(to)


@router.post("/sheets/{sheet_id}/accept", dependencies=[Depends(own_form)])
def accept(request: Request, sheet_id: int) -> Response:
    """Vouches for the reading and goes to what it means. Sent twice it leads to the same place."""
    store = request.app.state.store
    sheet, record, _ = _sheet(store, sheet_id)
    with request.app.state.turn:
        case_id = services.accept_sheet(store, sheet, request.app.state.settings.person, request.app.state.clock())
    return go(f"/cases/{case_id}/next" if case_id else f"/printers/{record.slug}?clear=1")


@router.get("/sheets/{sheet_id}/straight.jpg")
def straight_picture(request: Request, sheet_id: int) -> Response:
    """The photograph laid straight."""
    store = request.app.state.store
    sheet, record, photo = _sheet(store, sheet_id)
    note = sheet.reading.photos[0] if sheet.reading else None
    if photo is None or note is None or not note.found:
        raise UnknownThing(f"Sheet {sheet_id} has no photo that could be laid straight.")
    pixels = files.decode_photo(files.read_bytes(store.photo_path(photo.digest)), photo.name)
    return _picture(straight.straighten(pixels, record.layout, note))


@router.get("/sheets/{sheet_id}/photo")
def whole_photo(request: Request, sheet_id: int) -> Response:
    """The photograph as it came."""
    store = request.app.state.store
    _, _, photo = _sheet(store, sheet_id)
    if photo is None:
        raise UnknownThing(f"Sheet {sheet_id} was told by hand and has no photo.")
    return _picture(files.read_bytes(store.photo_path(photo.digest)), photo.media)


@router.get("/sheets/{sheet_id}/loupe/{block_id}/{nozzle}.jpg")
def loupe_picture(request: Request, sheet_id: int, block_id: str, nozzle: int) -> Response:
    """One mark among its neighbours."""
    store = request.app.state.store
    sheet, record, photo = _sheet(store, sheet_id)
    block = next((b for b in record.layout.blocks if b.id == block_id and isinstance(b, MarksBlock)), None)
    note = sheet.reading.photos[0] if sheet.reading else None
    if (
        not isinstance(block, MarksBlock)
        or nozzle not in block.numbers
        or photo is None
        or note is None
        or not note.found
    ):
        raise UnknownThing(f"Sheet {sheet_id} shows no nozzle {nozzle} of {block_id}.")
    pixels = files.decode_photo(files.read_bytes(store.photo_path(photo.digest)), photo.name)
    return _picture(straight.loupe(pixels, record.layout, note, block, nozzle))


def _sheet(store: Store, sheet_id: int) -> tuple[SheetRecord, PrinterRecord, PhotoRecord | None]:
    sheet = services.find_sheet(store, sheet_id)
    record = store.printer_by_id(sheet.printer_id)
    assert record is not None  # the sheet's foreign key holds
    return sheet, record, store.photo(sheet.photo_id) if sheet.photo_id else None


def _picture(content: bytes, media: str = "image/jpeg") -> Response:
    return Response(content, media_type=media, headers={"Cache-Control": "private, max-age=86400"})
