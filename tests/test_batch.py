"""Many sheets at once, for the command line and for other programs."""

import pytest

from dusky_sieve import files
from dusky_sieve.batch import SheetPhotos, read_many, read_one
from dusky_sieve.core.reading import Reading
from tests.conftest import FAULTS, TRUE_STATES, photo_of, small_scene


@pytest.fixture(scope="module")
def photos(tmp_path_factory):
    """A sheet with faults, a torn file, and an empty one."""
    folder = tmp_path_factory.mktemp("photos")
    whole = photo_of("four-staircases", tuple(FAULTS.items()), small_scene(tilt_deg=6, roll_deg=4))
    for name, content in (("good.jpg", whole), ("torn.jpg", whole[: len(whole) // 3]), ("empty.jpg", b"")):
        (folder / name).write_bytes(content)
    return folder


def states(reading: Reading) -> dict[str, dict[int, str]]:
    return {b.id: {f.nozzle: str(f.state) for f in b.faults} for b in reading.blocks}


@pytest.mark.parametrize("jobs", [1, 2])
def test_a_sheet_that_cannot_be_read_stops_none_of_the_others_and_progress_is_told(photos, jobs):
    layout, told = files.shipped_layout("four-staircases"), []
    names = ["torn.jpg", "good.jpg", "empty.jpg", "nowhere.jpg"]
    sheets = [SheetPhotos(light=photos / name) for name in names]
    results = list(read_many(layout, sheets, jobs=jobs, progress=lambda done, total: told.append((done, total))))
    assert [r.name for r in results] == names
    assert [r.reading is not None for r in results] == [False, True, False, False]
    assert states(results[1].reading) == TRUE_STATES
    assert all(name in str(r.error) for name, r in zip(names, results, strict=True) if r.reading is None)
    assert told == [(k, 4) for k in (1, 2, 3, 4)]


def test_no_sheets_are_no_results_and_a_sheet_without_photos_reads_nothing():
    layout = files.shipped_layout("four-staircases")
    assert list(read_many(layout, [])) == []
    nothing = read_one(layout, SheetPhotos())
    assert nothing.name == "no photo"
    assert not any(block.read for block in nothing.reading.blocks)
    assert "no photo over a light backing was given" in nothing.reading.blocks[0].why
