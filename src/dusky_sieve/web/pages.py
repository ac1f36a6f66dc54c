"""Rendering: one Jinja environment, one helper for addresses, what every page needs."""

import hashlib
import secrets
from collections.abc import Callable
from datetime import datetime, tzinfo
from functools import cache
from pathlib import Path
from typing import Any

from fastapi import Request
from fastapi.templating import Jinja2Templates
from jinja2 import Environment, FileSystemLoader, StrictUndefined, select_autoescape
from starlette.responses import HTMLResponse, RedirectResponse

from dusky_sieve import files
from dusky_sieve.drawing import sieve
from dusky_sieve.web import words
from dusky_sieve.web.security import COOKIE, form_secret

HERE = Path(__file__).parent
HOUR_COOKIE = "sieve_hour"


@cache
def static(name: str) -> str:
    """The address of a shipped file, with its contents' digest so that it may be cached for ever."""
    digest = hashlib.sha256((HERE / "static" / name).read_bytes()).hexdigest()[:10]
    return f"/static/{name}?v={digest}"


def _environment() -> Environment:
    env = Environment(
        loader=FileSystemLoader(HERE / "templates"),
        undefined=StrictUndefined,
        autoescape=select_autoescape(),
        trim_blocks=True,
        lstrip_blocks=True,
    )
    env.globals |= {"static": static, "steps": files.step_table(), "words": words, "glyph": sieve.glyph}
    env.filters |= {"ml": words.ml, "display": words.display, "capital": words.capital, "span": words.span}
    return env


TEMPLATES = Jinja2Templates(env=_environment())


def page(request: Request, template: str, status: int = 200, **context: Any) -> HTMLResponse:
    """A rendered page, with the form secret and what the frame of every page needs."""
    secret = form_secret(request)
    now: datetime = request.app.state.clock()
    hour = request.cookies.get(HOUR_COOKIE, "")
    context |= {
        "secret": secret, "now": now, "settings": request.app.state.settings, "hour": hour if hour in ("day", "dusk") else "",
        "once": secrets.token_urlsafe(18), "when": lambda at: words.day_time(at, now), "path": request.url.path,
    }  # fmt: skip
    answer = TEMPLATES.TemplateResponse(request, template, context, status_code=status)
    answer.headers["Cache-Control"] = "no-store"
    if request.cookies.get(COOKIE) != secret:
        answer.set_cookie(COOKIE, secret, httponly=True, samesite="strict", path="/")
    return answer


def once_only(request: Request, once: str, act: Callable[[datetime], str]) -> RedirectResponse:
    """Acts on a form once, however often it is sent, and leads to where it led."""
    store, now = request.app.state.store, request.app.state.clock()
    with request.app.state.turn:
        to = store.went_to(once) if once else None
        if to is None:
            to = act(now)
            if once:
                store.remember_form(once, to, now)
    return go(to)


def here() -> tzinfo:
    """The zone that this machine, and so the room, keeps."""
    zone = datetime.now().astimezone().tzinfo
    assert zone is not None  # an aware time has one
    return zone


def go(address: str) -> RedirectResponse:
    """Leads on after a change."""
    return RedirectResponse(address, status_code=303)
