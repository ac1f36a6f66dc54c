"""Sheet in: what to see to before printing, the photos, and faults told by hand."""

from dataclasses import replace
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.layout import Backing
from dusky_sieve.web import present
from dusky_sieve.web.pages import go, once_only, page
from dusky_sieve.web.phone import code_for
from dusky_sieve.web.security import own_form
from dusky_sieve.web.uploads import led_to, onto_sheet, take, uploads_of

router = APIRouter()
MOST_AT_ONCE = 12  # photos in one form


@router.get("/printers/{slug}/sheet-in")
def sheet_in(request: Request, slug: str, onto: int = 0) -> Response:
    """Before printing, and the photo. With `onto` the photo is a further one of that sheet."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    return page(
        request,
        "sheet_in.html",
        record=record,
        ticks=present.before_printing(store, record, now),
        backings=present.backings(record),
        onto=onto_sheet(store, record, onto),
        code=code_for(request, record, now),
        waiting=present.waiting_sheets(store, record),
    )


@router.post("/printers/{slug}/sheets", dependencies=[Depends(own_form)])
def photo_in(
    request: Request,
    slug: str,
    photo: Annotated[list[UploadFile] | None, File()] = None,
    dark: Annotated[list[UploadFile] | None, File()] = None,
    backing: Annotated[str, Form()] = "light",
    onto: Annotated[int, Form()] = 0,
) -> Response:
    """Keeps uploaded photos, reads them, and leads to the light table.

    Several photos over one backing are a sheet each; one over white and one over black are one sheet of film.
    """
    store = request.app.state.store
    record = services.find_printer(store, slug)
    side: Backing = "dark" if backing == "dark" else "light"
    first, second = uploads_of(photo, side), uploads_of(dark, "dark")
    if not first and not second:
        raise UnusableInput("Photo: none was chosen. Choose the photo of the sheet, or drop it on the field.")
    if len(first) + len(second) > MOST_AT_ONCE:
        raise UnusableInput(f"Photos: {MOST_AT_ONCE} at most at a time. Send the rest afterwards; nothing was kept.")
    if (second and len(first) > 1) or len(second) > 1:
        raise UnusableInput("Film: one photo over white and one over black make one sheet. Send sheet by sheet.")
    sheets = [[*first, *second]] if second else [[upload] for upload in first]
    return go(led_to(take(request, record, sheets, onto), record))


@router.post("/printers/{slug}/habits", dependencies=[Depends(own_form)])
def habits(
    request: Request,
    slug: str,
    ticked: Annotated[list[str] | None, Form()] = None,
    note: Annotated[str | None, Form(max_length=500)] = None,
    accept: Annotated[str | None, Form()] = None,
    kept: Annotated[str, Form()] = "",
) -> Response:
    """Keeps the ticks that stay, how a sheet is printed, or whether a sure reading is accepted by itself."""
    store = request.app.state.store
    record = services.find_printer(store, slug)
    old = record.habits
    new = replace(
        old,
        ticked=tuple(t[:40] for t in ticked or ())[:20] if kept == "ticks" else old.ticked,
        accept_sure=accept == "sure" if kept == "accept" else old.accept_sure,
    )
    store.keep_habits(record.id, new, note.strip() if note is not None and kept == "note" else None)
    return go(f"/printers/{slug}#rules" if kept == "accept" else f"/printers/{slug}/sheet-in")


@router.get("/printers/{slug}/told")
def tell_sheet(request: Request, slug: str) -> Response:
    """A sheet without a photo: faults set on the mesh or typed, channel by channel."""
    record = services.find_printer(request.app.state.store, slug)
    return page(request, "told.html", record=record, meshes=present.empty_meshes(record))


@router.post("/printers/{slug}/told", dependencies=[Depends(own_form)])
async def told(request: Request, slug: str) -> Response:
    """Keeps the faults that somebody typed and goes to what they mean."""
    store = request.app.state.store
    record = services.find_printer(store, slug)
    form = await request.form()
    typed = {
        c.name: {field: str(form.get(f"{field}-{k}", "")) for field in ("missing", "weak", "deflected", "absent")}
        for k, c in enumerate(record.printer.channels)
        if form.get(f"seen-{k}")
    }

    def keep(now: datetime) -> str:
        sheet_id, case_id = services.told_by_hand(store, record, typed, request.app.state.settings.person, now)
        return f"/cases/{case_id}/next" if case_id else f"/sheets/{sheet_id}"

    return once_only(request, str(form.get("once", "")), keep)
