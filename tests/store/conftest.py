"""An empty data folder, open."""

from pathlib import Path

import pytest

from dusky_sieve.store import Store


@pytest.fixture
def store(tmp_path: Path):
    opened = Store(tmp_path)
    yield opened
    opened.close()
