"""A served room with one printer, and the same with a case open; a browser without scripts."""

import re
from datetime import timedelta
from pathlib import Path

import pytest
from fastapi.testclient import TestClient
from tests.conftest import NOON

from dusky_sieve import files, services
from dusky_sieve.core.case import Channel, ChannelFaults, Printer
from dusky_sieve.settings import Settings
from dusky_sieve.web.app import create_app


class Room(TestClient):
    """A browser without scripts: it keeps cookies and sends the hidden fields of the page it is on."""

    def hidden(self, page: str) -> dict[str, str]:
        return dict(re.findall(r'name="(secret|once)" value="([^"]+)"', self.get(page).text))

    def act(self, page: str, action: str, fields=None, **more):
        return self.post(
            action, data=self.hidden(page) | (fields or {}), headers={"origin": "http://localhost"}, **more
        )

    def send_photo(self, content: bytes, name: str = "sheet.jpg"):
        return self.act("/printers/larch/sheet-in", "/printers/larch/sheets", files={"photo": (name, content)})


@pytest.fixture
def room(tmp_path: Path):
    app = create_app(Settings(data=tmp_path, person="Jory"), clock=lambda: NOON + room_time["passed"])
    room_time = {"passed": timedelta(0)}
    with Room(app, base_url="http://localhost") as client:
        store = app.state.store
        channels = tuple(
            Channel(name=n, nozzles=180, group="A", capacity_ml=70, level_ml=40, price_per_ml=0.1)
            for n in ("black", "cyan", "magenta", "yellow")
        )
        store.add_printer(
            "larch",
            Printer(name="Larch", channels=channels, abilities=("clean", "deep_clean")),
            files.shipped_layout("four-staircases"),
            {"black": "#1d1c20"},
        )
        client.store, client.time = store, room_time
        yield client


@pytest.fixture
def troubled(room):
    """The room with one case open: three gaps in black, told by hand."""
    larch = services.find_printer(room.store, "larch")
    case = room.store.open_case(larch.id, NOON, larch.printer)
    room.store.add_sheet(
        larch.id,
        NOON,
        "Jory",
        faults={"black": ChannelFaults(missing=(40, 41, 97)), "cyan": ChannelFaults()},
        case_id=case,
    )
    return room
