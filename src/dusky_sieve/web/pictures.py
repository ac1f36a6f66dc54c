"""Pictures of a sheet: the photo as it came, laid straight, one channel pulled out, one mark under the loupe."""

from fastapi import APIRouter, Request
from starlette.responses import Response

from dusky_sieve import files, services
from dusky_sieve.core.errors import UnknownThing
from dusky_sieve.core.layout import MarksBlock
from dusky_sieve.core.reading import PhotoReading
from dusky_sieve.drawing import pull, straight
from dusky_sieve.store import PhotoRecord, PrinterRecord, Store

router = APIRouter()


@router.get("/sheets/{sheet_id}/straight.jpg")
def straight_picture(request: Request, sheet_id: int, place: int = 0, only: str = "", full: bool = False) -> Response:
    """A photograph laid straight; with `only` one channel pulled out in raised contrast; with `full` no coarser than it came."""
    store = request.app.state.store
    record, photo, note = _found(store, sheet_id, place)
    scale = straight.straight_scale(record.layout, note, full=full)
    laid = straight.straighten(services.pixels_of(store, photo), record.layout, note, scale)
    if only:
        if only not in {b.channel for b in record.layout.blocks}:
            raise UnknownThing(f"Sheet {sheet_id} shows no channel “{only}”.")
        laid = pull.pulled(laid, record.layout, only, scale)
    return _picture(files.encode_jpeg(laid, 88))


@router.get("/sheets/{sheet_id}/photo")
def whole_photo(request: Request, sheet_id: int, place: int = 0) -> Response:
    """A photograph as it came, upright."""
    store = request.app.state.store
    photos = services.photos_of(store, services.find_sheet(store, sheet_id))
    if not 0 <= place < len(photos):
        raise UnknownThing(f"Sheet {sheet_id} has no photo {place}: it was told by hand, or has fewer.")
    photo = photos[place]
    if photo.media == "image/jpeg":
        return _picture(files.read_bytes(store.photo_path(photo.digest)))
    return _picture(files.encode_jpeg(services.pixels_of(store, photo), 88))  # no browser shows every format


@router.get("/sheets/{sheet_id}/loupe/{block_id}/{nozzle}.jpg")
def loupe_picture(request: Request, sheet_id: int, block_id: str, nozzle: int) -> Response:
    """One mark among its neighbours, on the photo over the backing that shows it."""
    store = request.app.state.store
    sheet = services.find_sheet(store, sheet_id)
    record = store.printer_by_id(sheet.printer_id)
    assert record is not None  # the sheet's foreign key holds
    block = next((b for b in record.layout.blocks if b.id == block_id and isinstance(b, MarksBlock)), None)
    if not isinstance(block, MarksBlock) or nozzle not in block.numbers:
        raise UnknownThing(f"Sheet {sheet_id} shows no nozzle {nozzle} of {block_id}.")
    notes, read = (sheet.reading.photos, sheet.reading.blocks) if sheet.reading else ((), ())
    place = next((k for k, note in enumerate(notes) if note.backing == block.backing), 0)
    shift_um = next((b.shift_um for b in read if b.id == block.id), None)
    _, photo, note = _found(store, sheet_id, place)
    return _picture(straight.loupe(services.pixels_of(store, photo), note, block, shift_um, nozzle))


def _found(store: Store, sheet_id: int, place: int) -> tuple[PrinterRecord, PhotoRecord, PhotoReading]:
    sheet = services.find_sheet(store, sheet_id)
    record = store.printer_by_id(sheet.printer_id)
    photos, notes = services.photos_of(store, sheet), sheet.reading.photos if sheet.reading else ()
    if record is None or not 0 <= place < min(len(photos), len(notes)) or not notes[place].found:
        raise UnknownThing(f"Sheet {sheet_id} has no photo that could be laid straight.")
    return record, photos[place], notes[place]


def _picture(content: bytes) -> Response:
    return Response(content, media_type="image/jpeg", headers={"Cache-Control": "private, max-age=86400"})
