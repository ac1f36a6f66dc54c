"""What it means, what next; doing it; the case's history."""

from datetime import datetime, timedelta
from typing import Annotated, get_args

from fastapi import APIRouter, Depends, Form, Request
from starlette.responses import Response

from dusky_sieve import services
from dusky_sieve.core.errors import UnusableInput
from dusky_sieve.core.steps import StepName
from dusky_sieve.web import present
from dusky_sieve.web.figures import figure
from dusky_sieve.web.pages import go, once_only, page
from dusky_sieve.web.security import own_form

router = APIRouter()


@router.get("/cases")
def case_list(request: Request) -> Response:
    """All cases, newest first."""
    store, now = request.app.state.store, request.app.state.clock()
    return page(request, "cases.html", lines=present.case_lines(store, now))


@router.get("/cases/{case_id}")
def history(request: Request, case_id: int) -> Response:
    """The whole story: sheets and steps in order of time, and what they took."""
    store, now = request.app.state.store, request.app.state.clock()
    case = services.find_case(store, case_id)
    return page(request, "case.html", case=case, story=present.story(store, case, now))


@router.get("/cases/{case_id}/next")
def meaning(request: Request, case_id: int) -> Response:
    """What the case means and what to do next."""
    store, now = request.app.state.store, request.app.state.clock()
    case = services.find_case(store, case_id)
    return page(request, "next.html", case=case, view=present.meaning(store, case, now))


@router.post("/cases/{case_id}/steps", dependencies=[Depends(own_form)])
def start(request: Request, case_id: int, step: Annotated[str, Form()], once: Annotated[str, Form()] = "") -> Response:
    """Starts a step. The same form sent twice starts it once."""
    store = request.app.state.store
    if step not in get_args(StepName):
        raise UnusableInput(f"There is no step “{step}”. Choose one that the page proposes.")
    name: StepName = step  # type: ignore[assignment]

    def begin(now: datetime) -> str:
        case = services.find_case(store, case_id)
        if name == "check":
            printer = store.printer_by_id(case.printer_id)
            assert printer is not None  # the case's foreign key holds
            return f"/printers/{printer.slug}/sheet-in"
        services.start_step(store, case, name, request.app.state.settings.person, now)
        return f"/cases/{case.id}/next"

    return once_only(request, once, begin)


@router.post("/steps/{event_id}/finish", dependencies=[Depends(own_form)])
def finish(
    request: Request,
    event_id: int,
    once: Annotated[str, Form()] = "",
    early: Annotated[bool, Form()] = False,
    lines: Annotated[int | None, Form(ge=0, le=999)] = None,
) -> Response:
    """Finishes a step and books its ink."""

    def end(now: datetime) -> str:
        store, person = request.app.state.store, request.app.state.settings.person
        record = services.finish_step(store, event_id, person, now, early=early, lines=lines)
        return f"/cases/{record.case_id}/next"

    return once_only(request, once, end)


@router.post("/steps/{event_id}/drop", dependencies=[Depends(own_form)])
def drop(request: Request, event_id: int) -> Response:
    """Says that a started step was not done after all."""
    with request.app.state.turn:
        record = services.drop_step(request.app.state.store, event_id, request.app.state.clock())
    return go(f"/cases/{record.case_id}/next")


@router.post("/cases/{case_id}/close", dependencies=[Depends(own_form)])
def close(request: Request, case_id: int) -> Response:
    """Closes a case as it stands."""
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        services.close_case(store, services.find_case(store, case_id), now, "closed")
    return go(f"/cases/{case_id}")


@router.post("/cases/{case_id}/reopen", dependencies=[Depends(own_form)])
def reopen(request: Request, case_id: int) -> Response:
    """Opens a closed case again."""
    with request.app.state.turn:
        services.reopen_case(request.app.state.store, services.find_case(request.app.state.store, case_id))
    return go(f"/cases/{case_id}/next")


@router.post("/cases/{case_id}/told", dependencies=[Depends(own_form)])
async def told(request: Request, case_id: int) -> Response:
    """Keeps what somebody says about a case."""
    form = await request.form()
    facts: dict[str, object] = {}
    for name, kind in services.FACTS.items():
        value = str(form.get(name, "")).strip()
        if not value:
            continue
        if kind is float:
            facts[name] = figure(name.replace("_", " ").capitalize(), value, 0.0)
        else:
            facts[name] = True if kind is bool else [value] if kind is list else value
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        services.tell(store, services.find_case(store, case_id), facts, request.app.state.settings.person, now)
    return go(f"/cases/{case_id}/next")


@router.post("/cases/{case_id}/did", dependencies=[Depends(own_form)])
def did(
    request: Request,
    case_id: int,
    step: Annotated[StepName, Form()],
    minutes_ago: Annotated[float, Form(ge=0, le=1_000_000)],
    channel: Annotated[str, Form()] = "",
) -> Response:
    """Books a step that was done outside the program, in its right place in time."""
    store, now = request.app.state.store, request.app.state.clock()
    at = now - timedelta(minutes=minutes_ago)
    with request.app.state.turn:
        case = services.find_case(store, case_id)
        services.step_was_done(
            store, case, step, (channel,) if channel else None, at, request.app.state.settings.person, now
        )
    return go(f"/cases/{case_id}/next")


@router.get("/cases/{case_id}/report")
def report(request: Request, case_id: int) -> Response:
    """The case on one page, to print or to hand over."""
    store, now = request.app.state.store, request.app.state.clock()
    case = services.find_case(store, case_id)
    causes = present.cause_lines(services.advice_for(store, case, now))
    return page(request, "report.html", case=case, story=present.story(store, case, now), causes=causes)


@router.get("/cases/{case_id}/file")
def as_file(request: Request, case_id: int) -> Response:
    """The case as a document, the same that `dusky-sieve advise` takes."""
    store, now = request.app.state.store, request.app.state.clock()
    case = services.find_case(store, case_id)
    text = services.case_document(store, case, now).model_dump_json(indent=1, exclude_none=True)
    headers = {"Content-Disposition": f'attachment; filename="case-{case.number}.json"'}
    return Response(text, media_type="application/json", headers=headers)
