"""A new printer: its channels, and its sheet's layout from a file or from a photo of a good sheet."""

from typing import Annotated

from fastapi import APIRouter, Depends, File, Request, UploadFile
from starlette.datastructures import FormData
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.case import Waste
from dusky_sieve.core.errors import DuskySieveError, UnusableInput
from dusky_sieve.core.layout import Backing, Layout, parse_layout
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form

router = APIRouter()
ROWS = 8
FIELDS = ("name", "about", "pad", "pad_used", "pad_fixed", "note", "pitch")
COLUMNS = ("channel", "ink", "nozzles", "first", "step", "backing", "tank", "level", "price", "group")


@router.get("/printers/new")
def new_printer(request: Request) -> Response:
    """The empty form."""
    return page(
        request, "printer_new.html", rows=[dict.fromkeys(COLUMNS, "")] * ROWS, given=dict.fromkeys(FIELDS, ""), wrong=""
    )


@router.post("/printers/new", dependencies=[Depends(own_form)])
async def set_up(
    request: Request,
    layout: Annotated[UploadFile | None, File()] = None,
    light: Annotated[UploadFile | None, File()] = None,
    dark: Annotated[UploadFile | None, File()] = None,
) -> Response:
    """Keeps a new printer; what is wrong is said beside the form, and nothing typed is lost."""
    form = await request.form()
    typed = _rows(form)
    try:
        slug = await _kept(request, form, typed, layout, light, dark)
    except DuskySieveError as error:
        filled = typed + [dict.fromkeys(COLUMNS, "")] * max(0, ROWS - len(typed))
        return page(
            request,
            "printer_new.html",
            422,
            rows=filled,
            given={k: str(form.get(k, "")) for k in FIELDS},
            wrong=str(error),
        )
    return go(f"/printers/{slug}")


async def _kept(
    request: Request, form: FormData, typed: list[dict[str, str]], layout: UploadFile | None, light: UploadFile | None, dark: UploadFile | None
) -> str:  # fmt: skip
    name = str(form.get("name", "")).strip()
    if not name:
        raise UnusableInput("Name: give the printer a name that is on it, so that nobody takes the wrong one.")
    rows = [_row(number, row) for number, row in enumerate(typed, 1) if row["channel"]]
    capacity = _figure("Waste pad, holds", str(form.get("pad", "")), None)
    used = _figure("Waste pad, used", str(form.get("pad_used", "")), 0.0)
    waste = (
        Waste(capacity_ml=capacity, used_ml=used or 0.0, replaceable=form.get("pad_fixed") is None)
        if capacity
        else None
    )
    plan = await _layout(form, name, rows, layout, light, dark)
    with request.app.state.turn:
        return services.set_up(
            request.app.state.store,
            name[:80],
            str(form.get("about", ""))[:200],
            plan,
            rows,
            waste,
            str(form.get("note", ""))[:500],
        )


async def _layout(
    form: FormData, name: str, rows: list[services.Row], layout: UploadFile | None, light: UploadFile | None, dark: UploadFile | None
) -> Layout:  # fmt: skip
    if layout is not None and layout.filename:
        return parse_layout(await layout.read(), layout.filename)
    photos = []
    sides: tuple[tuple[UploadFile | None, Backing], ...] = ((light, "light"), (dark, "dark"))
    for file, backing in sides:
        if file is not None and file.filename:
            photos.append(services.photo_of(await file.read(), file.filename, backing))
    if not photos:
        raise UnusableInput("Sheet: add a layout file, or a photo of a good sheet from which its layout is learnt.")
    pitch = _figure("Nozzle pitch", str(form.get("pitch", "")), None)
    if not pitch:
        raise UnusableInput("Nozzle pitch: the distance between neighbouring nozzles in mm tells the sheet's scale.")
    return services.taught_layout(name, rows, pitch, photos)[0]


def _rows(form: FormData) -> list[dict[str, str]]:
    columns = {name: [str(v).strip() for v in form.getlist(name)] for name in COLUMNS}
    count = max((len(v) for v in columns.values()), default=0)
    return [{name: v[k] if k < len(v) else "" for name, v in columns.items()} for k in range(min(count, 64))]


def _row(number: int, row: dict[str, str]) -> services.Row:
    where = f"Row {number}, {row['channel']}"
    nozzles, first, step = (
        _figure(f"{where}: {said}", row[name], usual)
        for name, said, usual in (("nozzles", "nozzles", 0.0), ("first", "first nozzle", 1.0), ("step", "step", 1.0))
    )
    if not nozzles or nozzles > 4096 or nozzles != int(nozzles):
        raise UnusableInput(f"{where}: expected a whole number of nozzles from 1 to 4096, found “{row['nozzles']}”.")
    tank, level = (_figure(f"{where}: {name}", row[name], None) for name in ("tank", "level"))
    if tank is not None and level is not None and level > tank:
        raise UnusableInput(f"{where}: {level:g} ml are more than its tank of {tank:g} ml holds.")
    return services.Row(
        channel=row["channel"][:80], ink=row["ink"] or "#202020", nozzles=int(nozzles), first_nozzle=int(first or 1), nozzle_step=int(step or 1),
        backing="dark" if row["backing"] == "dark" else "light", tank_ml=tank, level_ml=level, price_per_ml=_figure(f"{where}: price", row["price"], 0.0) or 0.0,
        group=row["group"][:20] or None,
    )  # fmt: skip


def _figure(said: str, value: str, usual: float | None) -> float | None:
    if not value:
        return usual
    try:
        figure = float(value.replace(",", "."))
    except ValueError:
        figure = -1.0
    if not 0 <= figure <= 1_000_000:
        raise UnusableInput(f"{said}: expected a figure from 0 up, found “{value[:20]}”.")
    return figure
