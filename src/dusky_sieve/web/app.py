"""The application: store, middleware, routes, one handler for everything that goes wrong."""

import threading
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from datetime import UTC, datetime

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware
from starlette.middleware.trustedhost import TrustedHostMiddleware
from starlette.responses import Response

from dusky_sieve.core.errors import DuskySieveError, OutOfTurn, TooLarge, UnknownThing
from dusky_sieve.settings import Settings
from dusky_sieve.store import Store
from dusky_sieve.web import agenda, cases, ladders, ledger, phone, pictures, room, setup, sheet_in, sheets
from dusky_sieve.web.pages import HERE, page
from dusky_sieve.web.security import LOOPBACK, Guard

STATUS = {UnknownThing: 404, TooLarge: 413, OutOfTurn: 409}
HEADINGS = {
    403: "That was not sent.",
    404: "That is not here.",
    409: "Not now.",
    413: "That is too large.",
    422: "That cannot be used.",
}


class CachedStatic(StaticFiles):
    """Shipped files; their addresses carry a digest, so they never change."""

    def file_response(self, *args: object, **kwargs: object) -> Response:
        answer = super().file_response(*args, **kwargs)  # type: ignore[arg-type]
        answer.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return answer


def create_app(settings: Settings, *, clock: Callable[[], datetime] = lambda: datetime.now(UTC)) -> FastAPI:
    """The application over one data folder. The clock is handed in so that tests can set it."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        app.state.store = Store(settings.data)
        yield
        app.state.store.close()

    app = FastAPI(title="Dusky Sieve", docs_url=None, redoc_url=None, openapi_url=None, lifespan=life)
    app.state.settings, app.state.clock, app.state.turn = settings, clock, threading.Lock()
    app.add_middleware(GZipMiddleware, minimum_size=800)
    only_phones = settings.phones and settings.host in LOOPBACK
    app.add_middleware(Guard, limit_mb=settings.max_upload_mb, only_phones=only_phones)
    known = [*settings.hosts, settings.host, *([phone.own_address()] if settings.phones else [])]
    app.add_middleware(TrustedHostMiddleware, allowed_hosts=known, www_redirect=False)
    app.mount("/static", CachedStatic(directory=HERE / "static"), name="static")
    for part in (setup, room, sheet_in, sheets, pictures, phone, cases, ladders, ledger, agenda):
        app.include_router(part.router)

    @app.exception_handler(DuskySieveError)
    def refused(request: Request, error: DuskySieveError) -> Response:
        return _sorry(
            request, next((code for kind, code in STATUS.items() if isinstance(error, kind)), 422), str(error)
        )

    @app.exception_handler(HTTPException)
    def stopped(request: Request, error: HTTPException) -> Response:
        told = (
            error.detail
            if error.status_code != 404
            else "There is no page at this address. The room lists every printer."
        )
        return _sorry(request, error.status_code, told)

    @app.exception_handler(RequestValidationError)
    def malformed(request: Request, error: RequestValidationError) -> Response:
        first = error.errors()[0]
        field = ".".join(str(part) for part in first["loc"][1:]) or "the form"
        return _sorry(
            request,
            422,
            f"{words_of_field(field)}: {first['msg'].lower()}. Go back and fill it in; nothing was changed.",
        )

    return app


def words_of_field(field: str) -> str:
    """A form field's name as the page calls it."""
    return {"photo": "Photo", "level_ml": "Level", "step": "Step"}.get(field, field)


def _sorry(request: Request, status: int, told: str) -> Response:
    back = request.headers.get("referer", "/")
    same = back.startswith(f"{request.url.scheme}://{request.headers.get('host', '')}/")
    return page(
        request,
        "sorry.html",
        status,
        heading=HEADINGS.get(status, "That did not work."),
        told=told,
        back=back if same else "/",
    )
