"""How much ink a mark has, from the light that it takes: by the law that the colours of faint marks follow.

Ink that covers half of a mark takes half the light of every band. Half the ink all over it takes more than half, and the more
so the more light the full mark takes of a band: a faint mark is then of another hue. Where faint marks clearly are, they
tell by which law the ink of this photo adds up; black, too, in which hue tells nothing.
"""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, MarksBlock, ink_rgb
from dusky_sieve.core.reading.judge import DEFLECTED_FROM, WEAK_BELOW
from dusky_sieve.core.reading.measure import DEAD, MarkMeasures
from dusky_sieve.core.reading.order import median, one_sigma

Floats = NDArray[np.float64]

# Half the ink takes more than half the light: light that enters paper beside a dot leaves under it (Yule and Nielsen 1951),
# and cameras' tone curves do the same. Measured over true ink of faint marks is 0.97, 1.03 and 1.2 on the three worlds of
# benchmarks/, up to 1.4 where phones raise contrast; faint marks near to nothing hardly show it.
DOT_GAIN = 0.3
# Yule and Nielsen's n: 1 is ink that covers, 2.2 ink mixed in a picture's codes, 16 all but Beer's law of ink through and through.
LAWS = (1.0, 1.5, 2.2, 4.0, 16.0)
COVERING, CURVED = 1.0, 4.0
SHARP = 0.5  # of a full mark's light that is left, below which blur hides what it takes itself
DARKEST = 0.97  # of light, that the darkest ink takes
# Log odds over ink that covers, from which another law is believed, and under it, from which none is.
SURELY, AGAINST = 5.0, 6.0
BROKEN_ODDS = 0.7  # of a faint mark that it is broken off, which covers less by any law
BROKEN = 0.3  # of the typical mark's ink, up to which one that takes as much light may be broken off
FAINTEST = 0.25  # of the typical mark's light, from which a mark is a faint one and no trace
# One-sigmas of marks that print, and that one-sigma at least, below which light is clearly less.
BELOW, LEAST_SCATTER = 4.0, 0.03
LEAST_HUES = 0.12  # between the bands' shares of light, below which an ink's hue tells nothing
HUE_ERROR, OUTLIER = 0.02, 25.0  # one-sigma of a band's share at least; squared sigmas that one mark counts at most
LEAST_PRINTED = 8  # marks, from which their scatter is known
# Of light, from which ink that covers half of a mark, and most of it, takes it; how many of the latter are enough, how many of the
# former there then are for each, and their one-sigma. At the bad end of four worlds' tuning sheets marks that fire reach 0.03.
COVERED_HALF, COVERED_MOST, LEAST_STREWN, HALF_OF_MOST, STREWN = 0.45, 0.65, 6, 0.4, 0.04
MOST_LIGHT = 0.82  # of a mark's light, from which by any law it fires
AMOUNTS = np.linspace(0, 1.1, 111)


def ink_share(taken: Floats) -> Floats:
    """Ink (n,) as a share of the typical mark's, from the light that marks take, as a share of what that one takes."""
    return np.asarray(taken - DOT_GAIN * taken**2 * np.clip(1 - taken, 0, 1))


def amounts(blocks: list[MarksBlock], measured: list[MarkMeasures], backing: Backing) -> list[tuple[Floats, Floats]]:
    """Each block's ink (n,) as a share of its typical mark's, and one-sigma (n,)."""
    shown = [(b, marks) for b, marks in zip(blocks, measured, strict=True) if marks.printing >= DEAD]
    blur = _sharpness(shown) if shown and backing == "light" else 0.0
    law, alike = _law(shown, blur) if blur > SHARP else (COVERING, False)
    found = []
    for marks in measured:
        if law == COVERING or marks.printing < DEAD:
            found.append((ink_share(marks.ink), marks.ink_sigma))
            continue
        if alike:  # as tone curves do it, which raise light inks' contrast as well: as if all were black
            marks = replace(marks, full=np.full(3, DARKEST * blur))
        low, ink, high = (_by_law(marks, marks.ink + s * marks.ink_sigma, law, blur) for s in (-1, 0, 1))
        found.append((ink, (high - low) / 2))
    return found


def _by_law(marks: MarkMeasures, taken: Floats, law: float, blur: float) -> Floats:
    """Ink (n,) by a law, from light (n,); what lies within the scatter of marks that fire does not count as faint by any."""
    light = _light(marks.full, law, blur) @ marks.counts
    weak = float(np.interp(WEAK_BELOW, AMOUNTS, light))
    limit = max(min(weak, MOST_LIGHT, 1 - BELOW * _scatter(marks)), COVERED_MOST)
    faint = AMOUNTS < WEAK_BELOW
    # From there on straight to the typical mark, and beyond it.
    known, ink = np.append(light[faint] * limit / weak, (limit, 1.0)), np.append(AMOUNTS[faint], (WEAK_BELOW, 1.0))
    more = (1 - WEAK_BELOW) / (1 - limit) * np.maximum(taken - 1, 0)
    # By any law half a mark, broken off, takes half the light: what takes little is no gap for having little ink all over.
    return np.asarray(np.maximum(np.interp(taken, known, ink) + more, np.minimum(ink_share(taken), BROKEN)))


def _scatter(marks: MarkMeasures) -> float:
    """One-sigma of the light that marks which print take: of those above their middle, for weak ones lie below it."""
    printed = marks.ink[marks.solid]
    return one_sigma(printed[printed >= 1] - 1) if (printed >= 1).any() else 0.0


def _light(full: Floats, law: float, blur: float) -> Floats:
    """Light (amounts, 3) that AMOUNTS of ink take of each band, as a share of what the full mark takes, (3,) of all light.

    (1 - c (1 - T^(1/n)))^n passes, where c is the ink and T what passes a full mark.
    """
    through = 1 - np.clip(full / blur, 0.02, 0.98)
    root = 1 - AMOUNTS[:, None] * (1 - through ** (1 / law))
    return np.asarray((1 - np.maximum(root, 1e-6) ** law) / (1 - through))


def _sharpness(shown: list[tuple[MarksBlock, MarkMeasures]]) -> float:
    """What blur and the camera leave of a full mark's light: by the darkest there is, and by the layout's inks."""
    most = max(float(marks.full.max()) for _, marks in shown) / DARKEST
    usual = [float(median(marks.full / np.maximum(1 - ink_rgb(b.ink), 0.05))) for b, marks in shown]
    return min(max(most, float(median(np.array(usual)))), 1.0)


def _law(shown: list[tuple[MarksBlock, MarkMeasures]], blur: float) -> tuple[float, bool]:
    """The law that the hues of all faint marks follow, that of ink that covers where none surely does; and whether for all inks alike.

    Thin marks lose their hue to compression: where hues say little, it is told by faint marks strewn between.
    """
    odds = sum((_odds(b, marks, blur) for b, marks in shown), np.zeros(len(LAWS)))
    if odds.max() > SURELY:
        return LAWS[int(odds.argmax())], False
    return (CURVED, True) if odds[1:].max() > -AGAINST and _strewn(shown) else (COVERING, False)


def _strewn(shown: list[tuple[MarksBlock, MarkMeasures]]) -> bool:
    """Whether faint marks are strewn over all between half the light and nearly all of it: those that a printer draws thinner take alike."""
    light = np.concatenate([marks.ink[_faint(b, marks, marks.ink)] for b, marks in shown])
    most, half = light[light > COVERED_MOST], ((light > COVERED_HALF) & (light <= COVERED_MOST)).sum()
    return len(most) >= LEAST_STREWN and half > HALF_OF_MOST * len(most) and float(most.std()) > STREWN


def _faint(block: MarksBlock, marks: MarkMeasures, light: Floats) -> NDArray[np.bool_]:
    """Marks (n,) in their place whose light (n,), as a share of the typical mark's, lies clearly between none and that of those that print."""
    off = marks.offset[:, 1] - median(marks.offset[marks.solid, 1]) if marks.solid.any() else marks.offset[:, 1]
    clearly = 1 - BELOW * np.hypot(max(_scatter(marks), LEAST_SCATTER), marks.ink_sigma)
    pitch = block.nozzle_pitch
    in_place = marks.judged & ~marks.cut & (np.abs(np.nan_to_num(off, nan=pitch)) < DEFLECTED_FROM * pitch)
    return np.asarray(in_place & (light > FAINTEST) & (light < clearly))


def _odds(block: MarksBlock, marks: MarkMeasures, blur: float) -> Floats:
    """Log odds (laws,) of each law over ink that covers, by one block's faint marks."""
    mean = marks.bands @ marks.counts
    hue = marks.bands - mean[:, None]
    if np.ptp(marks.full) < LEAST_HUES * blur or marks.solid.sum() < LEAST_PRINTED:
        return np.zeros(len(LAWS))
    usual = median(hue[marks.solid], axis=0)
    error = np.maximum(1.4826 * median(np.abs(hue[marks.solid] - usual), axis=0), HUE_ERROR)
    faint = _faint(block, marks, mean)
    fits = []
    for law in LAWS:
        light = _light(marks.full, law, blur)
        at = light @ marks.counts
        expected = np.stack([np.interp(mean[faint], at, light[:, k] - at) for k in range(3)], axis=1)
        off = ((hue[faint] - usual - expected) / error) ** 2
        fits.append(-0.5 * np.minimum(off.sum(axis=1), OUTLIER))
    covers = fits[0] + np.log(BROKEN_ODDS)
    return np.array([float((np.logaddexp(fit, covers) - np.logaddexp(fits[0], covers)).sum()) for fit in fits])
