"""How much ink a mark has, where ink covers paper and where it goes through and through."""

import numpy as np
import pytest

from dusky_sieve.core.layout import MarksBlock, ink_rgb
from dusky_sieve.core.reading.inklaw import amounts
from dusky_sieve.core.reading.judge import WEAK_BELOW
from dusky_sieve.core.reading.measure import MarkMeasures

FAINT = np.linspace(0.25, 0.44, 10)
BLACK, VIOLET = (
    MarksBlock(
        id=ink, channel=ink, ink=ink, kind="marks", origin=(2, 2), nozzles=120, nozzle_pitch=0.1, columns=10,
        column_pitch=(1.0, 0.1), row_pitch=(0.0, 1.0), mark=(0.8, 0.08),
    )
    for ink in ("#1d1c20", "#5a4a9c")
)  # fmt: skip


def measured(block: MarksBlock, ink: np.ndarray, law: float, seed: int = 3) -> MarkMeasures:
    """What marks with so much ink take by Yule and Nielsen's law, the light of a full one the layout's own."""
    full = np.clip(1 - ink_rgb(block.ink), 0, 0.97)
    through = (1 - full) ** (1 / law)
    rng = np.random.default_rng(seed)
    light = 1 - np.maximum(1 - ink[:, None] * (1 - through), 1e-3) ** law
    bands = light / full + rng.normal(0, 0.01, (len(ink), 3))
    counts, n = full / full.sum(), len(ink)
    every, none, still = np.ones(n, bool), np.zeros(n, bool), np.zeros((n, 2))
    return MarkMeasures(
        ink=bands @ counts, ink_sigma=np.full(n, 0.01), offset=still, centroid_x=still[:, 0], offset_sigma=still + 0.003,
        judged=every, glare=none, outside=none, covered=none, cut=none, straddles=none, at_one_end=none, beside=np.zeros(n), bare=np.zeros(n),
        printing=1.0, strength=0.9, width=0.03, contrast=90.0, ground=np.ones(3), bands=bands, full=full, counts=counts,
    )  # fmt: skip


def inks(*seen: MarkMeasures) -> list[np.ndarray]:
    return [ink for ink, _ in amounts([BLACK, VIOLET][: len(seen)], list(seen), "light")]


def nozzles(faint: np.ndarray) -> np.ndarray:
    full = np.random.default_rng(5).normal(1, 0.03, BLACK.nozzles)
    full[: len(faint)] = faint
    return full


@pytest.mark.parametrize("law", [1.0, 2.2, 16.0])
def test_the_hue_of_faint_marks_tells_how_much_ink_half_the_light_is_in_black_too(law):
    ink = nozzles(FAINT)
    for seen in inks(measured(BLACK, ink, law), measured(VIOLET, ink, law)):
        assert (seen[: len(FAINT)] < WEAK_BELOW).all()
        assert (seen[len(FAINT) :] > 0.8).all()


def test_a_mark_that_takes_most_of_the_light_fires_where_ink_covers():
    ink = nozzles(np.append(FAINT, [0.72] * 3))
    black, violet = inks(measured(BLACK, ink, 1.0), measured(VIOLET, ink, 1.0))
    assert min(black[10:13].min(), violet[10:13].min()) > WEAK_BELOW


def test_marks_drawn_thinner_alike_fire_and_those_strewn_between_are_weak_though_no_hue_tells():
    alike, strewn = nozzles(np.full(12, 0.74)), nozzles(np.linspace(0.46, 0.8, 24))
    assert (inks(measured(BLACK, alike, 1.0))[0][:12] > WEAK_BELOW).all()
    assert (inks(measured(BLACK, strewn, 1.0))[0][:20] < WEAK_BELOW).all()


def test_half_a_mark_that_broke_off_is_no_gap_by_any_law():
    ink = nozzles(FAINT)
    black, violet = measured(BLACK, ink, 16.0), measured(VIOLET, ink, 16.0)
    for marks in (black, violet):
        marks.bands[20], marks.ink[20] = 0.24, 0.24
    assert min(seen[20] for seen in inks(black, violet)) > 0.2
