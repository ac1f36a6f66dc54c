"""The room board, a printer's page, day and dusk."""

from typing import Annotated

from fastapi import APIRouter, Depends, Form, Request
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.case import Ability, UserLevel
from dusky_sieve.web import present
from dusky_sieve.web.pages import HOUR_COOKIE, go, page
from dusky_sieve.web.security import own_form

router = APIRouter()
ABILITIES: tuple[tuple[Ability, str], ...] = (
    ("clean", "clean all channels"), ("group_clean", "clean one group"), ("channel_clean", "clean one channel"), ("deep_clean", "deep clean"),
    ("line_flush", "flush its lines"), ("remap", "remap dead nozzles"), ("removable_head", "take its head out"), ("head_soak", "have its head soaked"),
    ("replaceable_head", "have its head replaced"), ("replace_head", "be given a new head here"),
)  # fmt: skip


@router.get("/")
def board(request: Request) -> Response:
    """Every printer on one board: who needs somebody now?"""
    store, now = request.app.state.store, request.app.state.clock()
    bands = [present.band(store, record, now) for record in store.printers()]
    bands.sort(key=lambda b: b.order)
    return page(
        request, "room.html", bands=bands, heading=present.room_heading(bands), aside=present.room_aside(bands, now)
    )


@router.get("/printers/{slug}")
def printer_page(request: Request, slug: str) -> Response:
    """One printer: its channels now, tanks, pad, sheets and cases."""
    store, now = request.app.state.store, request.app.state.clock()
    record = services.find_printer(store, slug)
    return page(
        request,
        "printer.html",
        band=present.band(store, record, now),
        record=record,
        sheets=present.sheet_lines(store, record, now),
        cases=store.cases(record.id),
        ladders=services.all_ladders(store),
        abilities=ABILITIES,
    )


@router.post("/printers/{slug}/rules", dependencies=[Depends(own_form)])
def rules(
    request: Request,
    slug: str,
    ladder: Annotated[str, Form()],
    user_level: Annotated[UserLevel, Form()],
    abilities: Annotated[list[Ability] | None, Form()] = None,
) -> Response:
    """Which ladder a printer follows, who stands at it and what it can do."""
    store = request.app.state.store
    record = services.find_printer(store, slug)
    with request.app.state.turn:
        services.set_rules(store, record, ladder, user_level, list(abilities or []))
    return go(f"/printers/{record.slug}#rules")


@router.post("/hour", dependencies=[Depends(own_form)])
def set_hour(request: Request, hour: Annotated[str, Form()], back: Annotated[str, Form()] = "/") -> Response:
    """Day or dusk, remembered in this browser."""
    answer = go(back if back.startswith("/") and not back.startswith("//") else "/")
    answer.set_cookie(HOUR_COOKIE, "dusk" if hour == "dusk" else "day", samesite="strict", max_age=31_536_000)
    return answer
