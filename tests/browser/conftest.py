"""A served room and a real browser."""

import asyncio
import socket
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest
import uvicorn
from playwright.sync_api import Browser, Page, expect, sync_playwright

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, Waste
from dusky_sieve.settings import Settings
from dusky_sieve.store import Store
from dusky_sieve.web.app import create_app

expect.set_options(timeout=60_000)  # a busy machine reads slowly; what is expected still has to come
CHROMIUM = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]


def free_port() -> int:
    """A port that nothing listens on."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])


class _Server(uvicorn.Server):
    """Closes what a page still open holds: sockets left to the collector would fail whichever test comes next."""

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        await super().shutdown(sockets)
        for connection in list(self.server_state.connections):
            connection.transport.abort()
        await asyncio.sleep(0.05)


class Served:
    """The application on one folder and port, which a test can stop and start again."""

    def __init__(self, folder: Path, clock: Callable[[], datetime] = lambda: datetime.now(UTC), phones: bool = False):
        self.settings, self.clock = Settings(data=folder, port=free_port(), phones=phones), clock
        self.address = f"http://127.0.0.1:{self.settings.port}"
        self.start()

    def start(self) -> None:
        app = create_app(self.settings, clock=self.clock)
        config = uvicorn.Config(app, port=self.settings.port, log_level="error", timeout_graceful_shutdown=1)
        self.server = _Server(config)
        self.thread = threading.Thread(target=self.server.run, daemon=True)
        self.thread.start()
        while not self.server.started:
            time.sleep(0.02)

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(10)


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield opened
        opened.close()


def furnish(folder: Path) -> Path:
    """Two printers and no history, in a data folder."""
    store = Store(folder)
    prices = {"black": 0.14, "cyan": 0.17, "magenta": 0.17, "yellow": 0.17}
    channels = tuple(
        Channel(name=n, nozzles=180, group="A" if n == "black" else "B", capacity_ml=70, level_ml=50, price_per_ml=p)
        for n, p in prices.items()
    )
    printer = Printer(
        name="Larch", channels=channels, waste=Waste(capacity_ml=200, used_ml=40), abilities=("clean", "deep_clean")
    )
    layout = files.shipped_layout("four-staircases")
    store.add_printer(
        "larch", printer, layout, {b.channel: b.ink for b in layout.blocks}, about="four-channel desktop tank"
    )
    film = files.shipped_layout("six-bands-on-film")
    inks = {b.channel: b.ink for b in film.blocks}
    whites = tuple(Channel(name=n, nozzles=180, group="A", capacity_ml=220, level_ml=100) for n in inks)
    store.add_printer("sorrel", Printer(name="Sorrel", channels=whites), film, inks, about="colours and white on film")
    store.close()
    return folder


@pytest.fixture
def address(tmp_path: Path):
    """A served room with two printers and no history."""
    served = Served(furnish(tmp_path / "data"), phones=True)
    yield served.address
    served.stop()


def new_page(browser: Browser) -> Page:
    """A page in a context of its own, which keeps what its console complains of."""
    opened = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    opened.complaints = []
    opened.on(
        "console",
        lambda m: (
            opened.complaints.append(m.text) if m.type in ("error", "warning") and "preloaded" not in m.text else None
        ),
    )
    opened.on("pageerror", lambda e: opened.complaints.append(str(e)))
    opened.set_default_timeout(60_000)
    return opened


@pytest.fixture
def page(browser: Browser):
    opened = new_page(browser)
    yield opened
    opened.context.close()
