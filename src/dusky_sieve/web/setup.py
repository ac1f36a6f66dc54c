"""A new printer: its channels, and its sheet's layout from a file or from a photo of a good sheet."""

from typing import Annotated

from fastapi import APIRouter, Depends, File, Request, UploadFile
from fastapi.concurrency import run_in_threadpool
from starlette.datastructures import FormData
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.case import Waste
from dusky_sieve.core.errors import DuskySieveError, UnusableInput
from dusky_sieve.core.layout import Backing, Layout, MarksBlock, parse_layout
from dusky_sieve.services import Upload
from dusky_sieve.store import PrinterRecord
from dusky_sieve.web.figures import figure
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form

router = APIRouter()
ROWS = 8
FIELDS = ("name", "about", "pad", "pad_used", "pad_fixed", "note", "pitch")
COLUMNS = ("channel", "ink", "nozzles", "first", "step", "backing", "tank", "level", "price", "group", "box")


@router.get("/printers/new")
def new_printer(request: Request) -> Response:
    """The empty form."""
    return _form(request, None, [dict.fromkeys(COLUMNS, "")] * ROWS, dict.fromkeys(FIELDS, ""))


@router.get("/printers/{slug}/teach")
def teach_form(request: Request, slug: str) -> Response:
    """The form that learns a printer's sheet once more, its channels filled in."""
    record = services.find_printer(request.app.state.store, slug)
    blocks = [b for b in record.layout.blocks if isinstance(b, MarksBlock)]
    rows = [
        dict.fromkeys(COLUMNS, "") | {
            "channel": b.channel, "ink": b.ink, "nozzles": str(b.nozzles), "first": str(b.first_nozzle), "step": str(b.nozzle_step),
            "backing": b.backing,
        }
        for b in blocks
    ]  # fmt: skip
    given = dict.fromkeys(FIELDS, "") | {"name": record.name, "pitch": f"{blocks[0].nozzle_pitch:g}"}
    return _form(request, record, rows, given)


def _form(
    request: Request, record: PrinterRecord | None, rows: list[dict[str, str]], given: dict[str, str], wrong: str = ""
) -> Response:
    status = 422 if wrong else 200
    return page(request, "printer_new.html", status, record=record, rows=rows, given=given, wrong=wrong)


@router.post("/printers/new", dependencies=[Depends(own_form)])
@router.post("/printers/{slug}/teach", dependencies=[Depends(own_form)])
async def set_up(
    request: Request,
    slug: str = "",
    layout: Annotated[UploadFile | None, File()] = None,
    light: Annotated[UploadFile | None, File()] = None,
    dark: Annotated[UploadFile | None, File()] = None,
) -> Response:
    """Keeps a new printer, or another layout of one; what is wrong is said beside the form, and nothing typed is lost.

    A photo that a layout was learnt from becomes the printer's first sheet, with the lattice drawn over it.
    """
    store = request.app.state.store
    record = services.find_printer(store, slug) if slug else None
    form = await request.form()
    typed = _rows(form)
    sides: tuple[tuple[UploadFile | None, Backing], ...] = ((light, "light"), (dark, "dark"))
    try:
        sent = [Upload(await f.read(), f.filename[:120], side) for f, side in sides if f is not None and f.filename]
        plan = (await layout.read(), layout.filename) if layout is not None and layout.filename else None
        address = await run_in_threadpool(_kept, request, form, typed, plan, sent, record)
    except DuskySieveError as error:
        filled = typed + [dict.fromkeys(COLUMNS, "")] * max(0, ROWS - len(typed))
        return _form(request, record, filled, {k: str(form.get(k, "")) for k in FIELDS}, str(error))
    return go(address)


def _kept(
    request: Request, form: FormData, typed: list[dict[str, str]], plan: tuple[bytes, str] | None, sent: list[Upload], record: PrinterRecord | None
) -> str:  # fmt: skip
    name = record.name if record else str(form.get("name", "")).strip()
    if not name:
        raise UnusableInput("Name: give the printer a name that is on it, so that nobody takes the wrong one.")
    rows = [_row(number, row) for number, row in enumerate(typed, 1) if row["channel"]]
    capacity = figure("Waste pad, holds", str(form.get("pad", "")), None)
    used = figure("Waste pad, used", str(form.get("pad_used", "")), 0.0) or 0.0
    fixed = form.get("pad_fixed") is not None
    waste = Waste(capacity_ml=capacity, used_ml=used, replaceable=not fixed) if capacity else None
    layout, doubts = (parse_layout(*plan), ()) if plan else _learnt(form, name, rows, sent)
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        if record is not None:
            services.teach_again(store, record, layout, doubts)
            slug = record.slug
        else:
            about, note = str(form.get("about", ""))[:200], str(form.get("note", ""))[:500]
            slug = services.set_up(store, name[:80], about, layout, rows, waste, note, doubts)
        if not sent:
            return f"/printers/{slug}"
        kept = services.find_printer(store, slug)
        known = services.sheet_of(store, kept, sent[0])
        arrival = services.take_photos(store, kept, sent, request.app.state.settings.person, now, known)
        return f"/sheets/{arrival.sheet_id}?lattice=1"


def _learnt(form: FormData, name: str, rows: list[services.Row], sent: list[Upload]) -> tuple[Layout, tuple[str, ...]]:
    if not sent:
        raise UnusableInput("Sheet: add a layout file, or a photo of a good sheet from which its layout is learnt.")
    pitch = figure("Nozzle pitch", str(form.get("pitch", "")), None)
    if not pitch:
        raise UnusableInput("Nozzle pitch: the distance between neighbouring nozzles in mm tells the sheet's scale.")
    photos = [services.photo_of(u.content, u.name, u.backing) for u in sent]
    return services.taught_layout(name, rows, pitch, photos)


def _rows(form: FormData) -> list[dict[str, str]]:
    columns = {name: [str(v).strip() for v in form.getlist(name)] for name in COLUMNS}
    count = max((len(v) for v in columns.values()), default=0)
    return [{name: v[k] if k < len(v) else "" for name, v in columns.items()} for k in range(min(count, 64))]


def _row(number: int, row: dict[str, str]) -> services.Row:
    where = f"Row {number}, {row['channel']}"
    nozzles, first, step = (
        figure(f"{where}: {said}", row[name], usual)
        for name, said, usual in (("nozzles", "nozzles", 0.0), ("first", "first nozzle", 1.0), ("step", "step", 1.0))
    )
    if not nozzles or nozzles > 4096 or nozzles != int(nozzles):
        raise UnusableInput(f"{where}: expected a whole number of nozzles from 1 to 4096, found “{row['nozzles']}”.")
    tank, level = (figure(f"{where}: {name}", row[name], None) for name in ("tank", "level"))
    if tank is not None and level is not None and level > tank:
        raise UnusableInput(f"{where}: {level:g} ml are more than its tank of {tank:g} ml holds.")
    return services.Row(
        channel=row["channel"][:80], ink=row["ink"] or "#202020", nozzles=int(nozzles), first_nozzle=int(first or 1), nozzle_step=int(step or 1),
        backing="dark" if row["backing"] == "dark" else "light", tank_ml=tank, level_ml=level, price_per_ml=figure(f"{where}: price", row["price"], 0.0) or 0.0,
        group=row["group"][:20] or None, box=_box(row["box"]),
    )  # fmt: skip


def _box(text: str) -> services.Box | None:
    """A box drawn on the photo; one that makes no sense counts as not drawn."""
    try:
        a, b, c, d = (min(1.0, max(0.0, float(v))) for v in text.split(","))
    except ValueError:
        return None
    return (min(a, c), min(b, d), max(a, c), max(b, d))
