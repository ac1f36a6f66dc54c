"""Photos as forms send them, from the desk or from a phone: kept, read, and led on from."""

from urllib.parse import urlencode

from fastapi import Request, UploadFile

from dusky_sieve import files, services
from dusky_sieve.core.errors import OutOfTurn, UnusableInput
from dusky_sieve.core.layout import Backing
from dusky_sieve.services import Arrival, Upload
from dusky_sieve.store import PrinterRecord, SheetRecord, Store


def take(request: Request, record: PrinterRecord, sheets: list[list[Upload]], onto: int = 0) -> list[Arrival]:
    """Keeps and reads sheets, each from its photos; one that cannot be used does not stop the rest."""
    store, person = request.app.state.store, request.app.state.settings.person
    arrivals, wrong = [], []
    with request.app.state.turn:
        for uploads in sheets:
            known = onto_sheet(store, record, onto)
            try:
                arrivals.append(services.take_photos(store, record, uploads, person, request.app.state.clock(), known))
            except UnusableInput as error:
                wrong.append(error)
    if wrong and not arrivals:
        raise wrong[0]
    return arrivals


def led_to(arrivals: list[Arrival], record: PrinterRecord) -> str:
    """Where somebody goes after photos came in: the first sheet to look at, or what it means where it was accepted."""
    to_see = next((a for a in arrivals if not a.accepted), None)
    if to_see is None:
        return f"/cases/{arrivals[-1].case_id}/next" if arrivals[-1].case_id else f"/printers/{record.slug}?clear=1"
    query = {"known": 1} if to_see.known else {}
    return f"/sheets/{to_see.sheet_id}" + (f"?{urlencode(query)}" if query else "")


def uploads_of(sent: list[UploadFile] | None, backing: Backing) -> list[Upload]:
    """The photos of a form's field; a field left empty gives none."""
    found = []
    for file in sent or ():
        if file.filename or file.size:
            name = (file.filename or "photo").rsplit("/", 1)[-1].rsplit("\\", 1)[-1][:120]
            found.append(Upload(file.file.read(files.MAX_PHOTO_BYTES + 1), name, backing))
    return found


def onto_sheet(store: Store, record: PrinterRecord, onto: int) -> SheetRecord | None:
    """The sheet that a photo is a further one of; OutOfTurn where it takes none."""
    if not onto:
        return None
    sheet = services.find_sheet(store, onto)
    if sheet.printer_id != record.id or not sheet.photo_ids or sheet.faults is not None:
        raise OutOfTurn(f"Sheet {onto} takes no further photo: it was accepted, told by hand, or is another printer's.")
    return sheet
