"""Sheet in, and the light table."""

from typing import Annotated

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from starlette.responses import Response

from dusky_sieve import files, services
from dusky_sieve.core.errors import UnknownThing
from dusky_sieve.core.layout import Backing, MarksBlock
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
