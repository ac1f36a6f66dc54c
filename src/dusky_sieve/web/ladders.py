"""Ladders: all of them, one drawn, copied, changed, brought in and taken out; what each fact does to the odds."""

import json
from typing import Annotated

from fastapi import APIRouter, Depends, File, Form, Request, UploadFile
from starlette.responses import Response

from dusky_sieve import files, services
from dusky_sieve.core.advice import Ladder, parse_ladder
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.drawing.flow import conditions, ladder_flow
from dusky_sieve.web import present
from dusky_sieve.web.pages import go, page
from dusky_sieve.web.security import own_form

router = APIRouter()


@router.get("/ladders")
def ladder_list(request: Request) -> Response:
    """Every ladder and who follows it."""
    store = request.app.state.store
    printers = store.printers()
    lines = [
        (ladder, ladder.id in files.ladders(), [p for p in printers if p.printer.ladder == ladder.id])
        for ladder in services.all_ladders(store).values()
    ]
    return page(request, "ladders.html", lines=lines)


@router.post("/ladders", dependencies=[Depends(own_form)])
def bring_in(request: Request, file: Annotated[UploadFile, File()]) -> Response:
    """Keeps a ladder from a file."""
    return _keep(request, file.file.read(1_000_000), file.filename or "ladder")


@router.get("/ladders/{ladder_id}")
def one_ladder(request: Request, ladder_id: str) -> Response:
    """One ladder drawn, with the same as a table."""
    ladder = services.ladder_of(request.app.state.store, ladder_id)
    rungs = [(rung, conditions(rung)) for rung in ladder.rungs]
    drawing = ladder_flow(ladder, files.step_table())
    return page(
        request, "ladder.html", ladder=ladder, drawing=drawing, rungs=rungs, own=ladder.id not in files.ladders()
    )


@router.get("/ladders/{ladder_id}/edit")
def edit_ladder(request: Request, ladder_id: str) -> Response:
    """The ladder's document to change; a shipped one as a copy under another id."""
    store = request.app.state.store
    ladder = services.ladder_of(store, ladder_id)
    if ladder.id in files.ladders():
        taken = services.all_ladders(store)
        number = next(n for n in range(1, 1000) if f"{ladder.id}-{n}" not in taken)
        ladder = ladder.model_copy(update={"id": f"{ladder.id}-{number}", "name": f"{ladder.name}, our way"[:80]})
    return page(request, "ladder_edit.html", ladder=ladder, text=_text(ladder), wrong="")


@router.post("/ladders/keep", dependencies=[Depends(own_form)])
def keep(request: Request, text: Annotated[str, Form()]) -> Response:
    """Keeps a changed ladder; what is wrong with it is said beside the text, and nothing typed is lost."""
    try:
        return _keep(request, text, "the ladder")
    except UnusableInput as error:
        return page(request, "ladder_edit.html", 422, ladder=None, text=text, wrong=str(error))


@router.get("/ladders/{ladder_id}/file")
def take_out(request: Request, ladder_id: str) -> Response:
    """The ladder as a file."""
    ladder = services.ladder_of(request.app.state.store, ladder_id)
    headers = {"Content-Disposition": f'attachment; filename="{ladder.id}.ladder.json"'}
    return Response(_text(ladder), media_type="application/json", headers=headers)


@router.get("/cases/{case_id}/odds")
def odds(request: Request, case_id: int) -> Response:
    """What each fact of a case did to the odds of its causes."""
    store, now = request.app.state.store, request.app.state.clock()
    case = services.find_case(store, case_id)
    return page(request, "odds.html", case=case, view=present.odds(store, case, now))


def _keep(request: Request, text: str | bytes, name: str) -> Response:
    ladder = parse_ladder(text, name)
    with request.app.state.turn:
        services.keep_ladder(
            request.app.state.store, ladder, request.app.state.settings.person, request.app.state.clock()
        )
    return go(f"/ladders/{ladder.id}")


def _text(ladder: Ladder) -> str:
    return json.dumps(
        json.loads(ladder.model_dump_json(by_alias=True, exclude_defaults=True))
        | {"format": ladder.format, "version": 1},
        indent=1,
        ensure_ascii=False,
    )
