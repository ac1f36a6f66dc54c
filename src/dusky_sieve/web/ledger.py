"""The ledger: what a printer's book says, and everything that is written into it."""

from datetime import UTC, datetime, tzinfo
from typing import Annotated

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.ledger import as_csv, measured, moment
from dusky_sieve.web import present
from dusky_sieve.web.figures import figure
from dusky_sieve.web.pages import go, here, once_only, page
from dusky_sieve.web.security import own_form

router = APIRouter()
TANK_FIELDS = (
    ("capacity_ml", "holds, ml"),
    ("window_mm", "window, mm"),
    ("empty_g", "empty, g"),
    ("price_per_ml", "price of a ml"),
)


@router.get("/printers/{slug}/ledger")
def ledger(request: Request, slug: str) -> Response:
    """Tanks, pad, the days ahead, use by month, what was learnt, every line."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    view = present.ledger(store, record, now, here(), request.app.state.settings.currency)
    return page(
        request,
        "ledger.html",
        record=record,
        view=view,
        purposes=present.PURPOSE_WORDS,
        fields=TANK_FIELDS,
        brought=None,
    )


@router.get("/printers/{slug}/ledger.csv")
def ledger_csv(request: Request, slug: str) -> Response:
    """Every line that holds, as a table for a spreadsheet."""
    store = request.app.state.store
    record = services.find_printer(store, slug)
    text = as_csv(store.numbered(record.id))
    headers = {"Content-Disposition": f'attachment; filename="{record.slug}-ledger.csv"'}
    return Response(text.encode(), media_type="text/csv; charset=utf-8", headers=headers)


@router.post("/printers/{slug}/ledger/csv", dependencies=[Depends(own_form)])
def bring_in(
    request: Request, slug: str, table: Annotated[UploadFile, File()], whole: Annotated[bool, Form()] = False
) -> Response:
    """Books the lines of a table and says what became of each."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    try:
        text = table.file.read(5_000_000).decode("utf-8")
    except UnicodeDecodeError:
        raise UnusableInput(
            f"{table.filename}: not UTF-8 text. Save it as “CSV UTF-8” and bring it in again; nothing was booked."
        ) from None
    person = request.app.state.settings.person
    with request.app.state.turn:
        lines, booked = services.brought_in(store, record, text, here(), person, now, all_or_nothing=whole)
    view = present.ledger(store, record, now, here(), request.app.state.settings.currency)
    refused = any(line.why for line in lines)
    return page(
        request, "ledger.html", 422 if refused and not booked else 200, record=record, view=view, purposes=present.PURPOSE_WORDS, fields=TANK_FIELDS,
        brought={"lines": lines, "booked": booked, "new": sum(1 for x in lines if x.entry), "known": sum(x.known for x in lines)},
    )  # fmt: skip


@router.post("/printers/{slug}/levels", dependencies=[Depends(own_form)])
def level_read(
    request: Request,
    slug: str,
    channel: Annotated[str, Form()],
    level: Annotated[str, Form()],
    unit: Annotated[str, Form()] = "",
    at: Annotated[str, Form()] = "",
    once: Annotated[str, Form()] = "",
) -> Response:
    """Books a tank level somebody read off, in ml, percent, mm of the window or grams."""
    value, said = measured(f"{level} {unit}" if unit and level.strip()[-1:].isdigit() else level)
    when = _when(at, here())

    def book(now: datetime) -> str:
        store = request.app.state.store
        record = services.find_printer(store, slug)
        services.level_read(
            store, record, channel, value, request.app.state.settings.person, now, unit=said, at=when or now
        )
        return f"/printers/{record.slug}/ledger"

    return once_only(request, once, book)


@router.post("/printers/{slug}/fills", dependencies=[Depends(own_form)])
def filled(
    request: Request,
    slug: str,
    channel: Annotated[str, Form()],
    ml: Annotated[str, Form()] = "",
    once: Annotated[str, Form()] = "",
) -> Response:
    """Books ink put into a tank; up to the top where no amount is said."""
    amount = figure("Filled in, ml", ml, None)

    def book(now: datetime) -> str:
        store = request.app.state.store
        record = services.find_printer(store, slug)
        services.filled(store, record, channel, amount, request.app.state.settings.person, now)
        return f"/printers/{record.slug}/ledger"

    return once_only(request, once, book)


@router.post("/printers/{slug}/pad", dependencies=[Depends(own_form)])
def pad(request: Request, slug: str, used: Annotated[str, Form()] = "", once: Annotated[str, Form()] = "") -> Response:
    """Books a new pad, or what the printer's own counter says."""
    amount = figure("The pad holds, ml", used, 0.0) or 0.0

    def book(now: datetime) -> str:
        store = request.app.state.store
        record = services.find_printer(store, slug)
        services.pad_said(store, record, amount, request.app.state.settings.person, now)
        return f"/printers/{record.slug}/ledger"

    return once_only(request, once, book)


@router.post("/printers/{slug}/tanks", dependencies=[Depends(own_form)])
async def tanks(request: Request, slug: str) -> Response:
    """Keeps what a printer's tanks are."""
    store, form = request.app.state.store, await request.form()
    record = services.find_printer(store, slug)
    told = {
        c.name: {
            field: figure(f"{c.name}, {says}", str(form.get(f"{field}-{k}", "")), None) for field, says in TANK_FIELDS
        }
        for k, c in enumerate(record.printer.channels)
    }
    with request.app.state.turn:
        services.set_tanks(store, record, told)
    return go(f"/printers/{slug}/ledger#tanks-are")


@router.post("/printers/{slug}/lines/{number}", dependencies=[Depends(own_form)])
def put_right(request: Request, slug: str, number: int, ml: Annotated[str, Form()] = "") -> Response:
    """Puts another line in the place of a wrong one; without an amount it is struck out."""
    amount = figure(f"Line {number}, ml", ml, None)
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        record = services.find_printer(store, slug)
        services.put_right(store, record, number, amount, request.app.state.settings.person, now)
    return go(f"/printers/{record.slug}/ledger#lines")


def _when(text: str, zone: tzinfo) -> datetime | None:
    return moment(text, zone).astimezone(UTC) if text.strip() else None
