"""A served room and a real browser."""

import socket
import threading
import time
from pathlib import Path

import pytest
import uvicorn
from playwright.sync_api import Browser, expect, sync_playwright

from dusky_sieve import files
from dusky_sieve.core.case import Channel, Printer, Waste
from dusky_sieve.settings import Settings
from dusky_sieve.store import Store
from dusky_sieve.web.app import create_app

expect.set_options(timeout=30_000)  # a busy machine reads slowly; what is expected still has to come
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


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
        yield opened
        opened.close()


@pytest.fixture
def address(tmp_path: Path):
    """A served room with one printer and no history."""
    store = Store(tmp_path / "data")
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
    port = free_port()
    server = uvicorn.Server(
        uvicorn.Config(
            create_app(Settings(data=tmp_path / "data", port=port, phones=True)),
            port=port,
            log_level="error",
            timeout_graceful_shutdown=1,
        )
    )
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join(10)


@pytest.fixture
def page(browser: Browser):
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    opened = context.new_page()
    opened.complaints = []
    opened.on(
        "console",
        lambda m: (
            opened.complaints.append(m.text) if m.type in ("error", "warning") and "preloaded" not in m.text else None
        ),
    )
    opened.on("pageerror", lambda e: opened.complaints.append(str(e)))
    opened.set_default_timeout(20_000)
    yield opened
    context.close()
