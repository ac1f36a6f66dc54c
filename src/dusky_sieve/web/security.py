"""What stands between the network and the pages: sizes, headers, forged forms."""

import secrets
from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Form, HTTPException, Request
from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

COOKIE = "sieve_form"
CONTENT_POLICY = (
    "default-src 'none'; img-src 'self' blob:; style-src 'self'; script-src 'self'; font-src 'self'; connect-src 'self'; "
    "form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": CONTENT_POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Permissions-Policy": "camera=(self), microphone=(), geolocation=()",
}
LOOPBACK = ("127.0.0.1", "::1", "localhost")
FOR_PHONES = ("/phone/", "/static/", "/feed/")
NOT_FOR_PHONES = "From another device only the page of a code shown at the desk can be opened.\n"
TOO_LARGE = "The upload is larger than the {limit} MB that are accepted. Save the photo as JPEG and send that; nothing was kept.\n"


class Guard:
    """Refuses bodies beyond the limit, told or not, and other devices where only phones were let in; sets the headers."""

    def __init__(self, app: ASGIApp, limit_mb: int, *, only_phones: bool = False) -> None:
        self.app = app
        self.only_phones = only_phones
        self.limit_mb = limit_mb
        self.limit = (limit_mb + 1) * 1_000_000  # a form's own words come on top of its file

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        if self.only_phones and not _at_the_desk(scope) and not scope["path"].startswith(FOR_PHONES):
            await PlainTextResponse(NOT_FOR_PHONES, 403, HEADERS)(scope, receive, send)
            return
        told = Headers(scope=scope).get("content-length", "0")
        if not told.isdigit() or int(told) > self.limit:
            await PlainTextResponse(TOO_LARGE.format(limit=self.limit_mb), 413, HEADERS)(scope, receive, send)
            return
        taken = 0

        async def counted() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b""))
            if taken > self.limit:
                raise HTTPException(413, TOO_LARGE.format(limit=self.limit_mb))
            return message

        async def dressed(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
            await send(message)

        await self.app(scope, counted, dressed)


def _at_the_desk(scope: Scope) -> bool:
    client = scope.get("client")
    return client is None or client[0] in LOOPBACK or client[0] == "testclient"


def form_secret(request: Request) -> str:
    """The secret that this browser's forms must carry; made when there is none."""
    known = request.cookies.get(COOKIE, "")
    return known if len(known) >= 32 else secrets.token_urlsafe(32)


def own_form(request: Request, secret: Annotated[str, Form()] = "") -> None:
    """Refuses a change that does not come from one of our own pages in this browser."""
    origin = request.headers.get("origin")
    foreign = origin is not None and urlsplit(origin).netloc != request.headers.get("host")
    elsewhere = request.headers.get("sec-fetch-site", "same-origin") not in ("same-origin", "none")
    kept = request.cookies.get(COOKIE, "")
    if foreign or elsewhere or not kept or not secrets.compare_digest(kept.encode(), secret.encode()):
        raise HTTPException(
            403,
            "This form did not come from a page of this room, or the page was too old. Reload the page and send it again; nothing was changed.",
        )
