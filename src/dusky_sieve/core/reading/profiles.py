"""Ink along lines across marks: taken from the photo's bytes, moved, and held against a template."""

import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.reading.compiled import compiled, middle, ranked

Floats = NDArray[np.float64]
Singles = NDArray[np.float32]
Whole = NDArray[np.int64]
Bools = NDArray[np.bool_]
Photo = NDArray[np.uint8]

GLARE_LEVEL = 252  # all three bands this high: the sensor is full and ink cannot show
STRONG_ALONG = 0.7  # quantile of the ink along a mark that stands for its strong ink
# Of a mark's strongest ink, from which a sample along it is part of it, and how many say how it runs.
RIDGE, LEAST_RIDGE = 0.5, 4
PLACED = 0.1  # samples, one-sigma at best of where the ink is strongest
GOES_ON = 0.5  # of a hump's ink, which it must fall under before its profile ends
FOOT = 0.06  # of a profile's peak, at which its hump ends
# Of a profile's places in order, between which bare ground is taken.
PAPER_ON_LIGHT, PAPER_ON_DARK = (0.6, 0.92), (0.08, 0.4)
LEAST_GROUND = 1e-3  # linear light, below which nothing is told from it
OF_A_LINE = 0.25  # of the strongest ink on a line across a run, below which it is not counted


@compiled
def places_round(at: Floats, across: Floats, along: Floats, step: float) -> tuple[Singles, Singles]:
    """Photo pixels x and y, (along, n * across) each, of a patch round every mark.

    at : (3, n, 2) where the marks lie, and where points `step` mm to the right of and below them do
    """
    n, ny = at.shape[1], len(across)
    places = np.empty((2, len(along), n * ny), np.float32)
    for axis in range(2):
        for j in range(n):
            right, down = (at[1, j, axis] - at[0, j, axis]) / step, (at[2, j, axis] - at[0, j, axis]) / step
            for a in range(len(along)):
                start = at[0, j, axis] + along[a] * right
                for b in range(ny):
                    places[axis, a, j * ny + b] = start + across[b] * down
    return places[0], places[1]


@compiled
def light_across(codes: Photo, linear: Singles, first: int, last: int, marks: int) -> tuple[Floats, Floats]:
    """Linear light (3, n, across), the mean of the rows from `first` to `last`, and the share of each patch under glare (n,).

    codes : (along, n * across, 3); linear : (256,) light of a byte
    """
    rows, width, _ = codes.shape
    ny = width // marks
    light, full = np.zeros((3, marks, ny)), np.zeros(marks)
    for a in range(rows):
        counts = first <= a <= last
        for j in range(marks):
            for b in range(ny):
                pixel = codes[a, j * ny + b]
                if pixel[0] >= GLARE_LEVEL and pixel[1] >= GLARE_LEVEL and pixel[2] >= GLARE_LEVEL:
                    full[j] += 1
                if counts:
                    light[0, j, b] += linear[pixel[0]]
                    light[1, j, b] += linear[pixel[1]]
                    light[2, j, b] += linear[pixel[2]]
    return light / (last - first + 1), full / (rows * ny)


@compiled
def ink_down(
    codes: Photo, linear: Singles, weights: Floats, across: Floats, ground: tuple[int, int], on_light: bool
) -> tuple[Floats, Floats]:
    """Ink (n,) of lines across a run, by weights (3,) of its bands, and where the middle of that is (n,), by the samples' places.

    codes : (n, across, 3); linear : (256,) light of a byte; across : (across,) places; ground : from which on and up to which of a
    line's bytes in order bare ground is taken. What is fainter than a share of a line's strongest ink is none of its own.
    """
    n, count, _ = codes.shape
    amount, place = np.zeros(n), np.zeros(n)
    ink, ordered = np.empty(count), np.empty(count, np.uint8)
    for j in range(n):
        ink[:] = 0
        for band in range(3):
            for b in range(count):  # by insertion: they are a dozen or two
                code, at = codes[j, b, band], b
                while at > 0 and ordered[at - 1] > code:
                    ordered[at] = ordered[at - 1]
                    at -= 1
                ordered[at] = code
            paper = 0.0
            for b in range(ground[0], ground[1]):
                paper += linear[ordered[b]]
            paper = max(paper / (ground[1] - ground[0]), LEAST_GROUND)
            scale = -1 / paper if on_light else 1.0
            for b in range(count):
                ink[b] += weights[band] * scale * (linear[codes[j, b, band]] - paper)
        least = OF_A_LINE * ink.max()
        for b in range(count):
            more = max(ink[b] - least, 0.0)
            amount[j] += more
            place[j] += more * across[b]
        place[j] /= max(amount[j], 1e-9)
    return amount, place


def ground_between(count: int, backing: Backing) -> tuple[int, int]:
    """From which on and up to which of so many samples in order, from dark to light, bare paper (or backing) is taken."""
    low, high = PAPER_ON_LIGHT if backing == "light" else PAPER_ON_DARK
    return int(low * count), int(high * count)


def paper_of(light: Floats, backing: Backing) -> Floats:
    """Bare paper (or backing) of each profile (bands, n, across), linear light (bands, n): the mean of the middle of its lighter (darker) half."""
    first, end = ground_between(light.shape[-1], backing)
    return np.asarray(np.maximum(np.sort(light, axis=-1)[..., first:end].mean(axis=-1), LEAST_GROUND))


@compiled
def shifted(profile: Floats, samples: Floats) -> Floats:
    """Profiles (n, across) moved back by a number of samples (n,), linear between them."""
    n, count = profile.shape
    moved = np.empty((n, count))
    for j in range(n):
        whole = int(np.floor(samples[j]))
        part = samples[j] - whole
        for b in range(count):
            low = min(max(b + whole, 0), count - 2)
            share = min(max(b + whole - low + part, 0.0), 1.0)
            moved[j, b] = profile[j, low] * (1 - share) + profile[j, low + 1] * share
    return moved


@compiled
def best_match(matched: Floats, least: Floats, power: Floats) -> tuple[Floats, Floats]:
    """Height (n,) of the best match of each profile, and how many samples it lies off its middle (n,).

    matched : (n, shifts) of the template at every shift; least : (shifts,) from which a match is no luck; where none is, the
    middle one counts. power : (shifts,) of the template inside the window. Between samples by a parabola.
    """
    n, count = matched.shape
    height, place = np.empty(n), np.empty(n)
    for j in range(n):
        best, most = count // 2, -1.0
        for s in range(count):
            if matched[j, s] >= least[s] and matched[j, s] > most:
                best, most = s, matched[j, s]
        low, high = max(best - 1, 0), min(best + 1, count - 1)
        a, b, c = max(matched[j, low], 0.0), max(matched[j, best], 0.0), max(matched[j, high], 0.0)
        bend, nudge = a - 2 * b + c, 0.0
        if bend < -1e-12 and low < best < high:
            nudge = min(max(0.5 * (a - c) / bend, -0.5), 0.5)
        height[j] = max((b - 0.25 * (a - c) * nudge) / np.sqrt(power[best]), 0.0)
        place[j] = best + nudge - count // 2
    return height, place


@compiled
def strongest_left(profile: Floats, model: Floats, first: int, last: int) -> Floats:
    """The strongest ink (n,), over three samples and either way, that a model of profiles (n, across) leaves over from `first` to `last`."""
    n = len(profile)
    most = np.zeros(n)
    for j in range(n):
        for b in range(first, last):
            left = 0.0
            for k in range(b - 1, b + 2):
                left += profile[j, k] - model[j, k]
            most[j] = max(most[j], abs(left) / 3)
    return most


@compiled
def strongest_beside(profile: Floats, own: Floats, least: float, first: int, last: int) -> Floats:
    """The most ink (n,), over three samples, of profiles (n, across) from `first` to `last` where a mark's own hump has less than `least`."""
    most = np.zeros(len(profile))
    for j in range(len(profile)):
        for b in range(first, last):
            if max(own[j, b - 1], own[j, b], own[j, b + 1]) < least:
                most[j] = max(most[j], (profile[j, b - 1] + profile[j, b] + profile[j, b + 1]) / 3)
    return most


@compiled
def does_not_end(profile: Floats, samples: Floats) -> Bools:
    """Profiles (n, across) whose ink, some samples (n,) off their middle, does not fall again towards that end."""
    n, count = profile.shape
    cut = np.zeros(n, np.bool_)
    for j in range(n):
        at = min(max(int(np.rint(samples[j])) + count // 2, 0), count - 1)
        side = 1 if samples[j] > 0 else -1
        least, b = profile[j, at], at
        while 0 <= b < count:
            least = min(least, profile[j, b])
            b += side
        cut[j] = least > GOES_ON * profile[j, at]
    return cut


@compiled
def light_along(codes: Photo, linear: Singles, middle: Whole, wide: int) -> Floats:
    """Linear light (n, along, 3) along each mark, the mean of the rows from `wide` above its `middle` (n,) to as far below.

    codes : (along, n, across, 3)
    """
    rows, n, count, _ = codes.shape
    light = np.zeros((n, rows, 3))
    for a in range(rows):
        for j in range(n):
            for b in range(middle[j] - wide, middle[j] + wide + 1):
                at = min(max(b, 0), count - 1)
                for band in range(3):
                    light[j, a, band] += linear[codes[a, j, at, band]]
    return light / (2 * wide + 1)


@compiled
def slopes_of(
    codes: Photo, linear: Singles, ground: Floats, weights: Floats, chosen: Whole, first: int, last: int
) -> tuple[Floats, Floats]:
    """Across travel per step along it, in samples, how the ink of some marks (k,) runs from sample `first` to `last`, and the one-sigma of that.

    codes : (along, n, across, 3); ground : (n, 3). A straight line through where the ink is strongest at each sample along that has some.
    """
    count = codes.shape[2]
    slope, sigma = np.zeros(len(chosen)), np.full(len(chosen), np.inf)
    ink = np.zeros((last - first + 1, count))
    for k in range(len(chosen)):
        j = chosen[k]
        for a in range(len(ink)):
            for b in range(count):
                ink[a, b] = 0.0
                for band in range(3):
                    ink[a, b] += weights[band] * abs(1 - linear[codes[first + a, j, b, band]] / ground[j, band])
        least, n = RIDGE * ink.max(), 0
        x, y, xx, xy, yy = 0.0, 0.0, 0.0, 0.0, 0.0
        for a in range(len(ink)):
            best = ink[a].argmax()
            if ink[a, best] > least:
                before, behind = ink[a, max(best - 1, 0)], ink[a, min(best + 1, count - 1)]
                bend = before - 2 * ink[a, best] + behind
                at = best + (min(max(0.5 * (before - behind) / bend, -0.5), 0.5) if bend < -1e-9 else 0.0)
                n, x, y, xx, xy, yy = n + 1, x + a, y + at, xx + a * a, xy + a * at, yy + at * at
        if n >= LEAST_RIDGE:
            spread = xx - x * x / n
            slope[k] = (xy - x * y / n) / spread
            left = max(yy - y * y / n - slope[k] ** 2 * spread, 0.0)
            sigma[k] = np.sqrt((left / (n - 2) + PLACED**2) / spread)
    return slope, sigma


@compiled
def places_of_ends(row: Floats, whole: Bools, start: float, step: float) -> tuple[Floats, Floats, float]:
    """Shift along x (n,) mm that both ends of each mark agree on, the mean of both ends, and their scatter.

    row : (n, along) ink along each mark, from `start` mm on every `step` mm; whole : (n,) those of which both ends printed. Blur moves
    both ends of all marks alike.
    """
    n = len(row)
    left, right = np.empty(n), np.empty(n)
    for j in range(n):
        left[j], right[j] = _ends(row[j])
        left[j], right[j] = start + step * left[j], start + step * right[j]
    typical = middle(0.5 * (left + right)[whole])
    left, right = left - middle(left[whole]), right - middle(right[whole])
    agreed, mean = np.full(n, typical), np.full(n, typical)
    for j in range(n):
        if whole[j]:
            mean[j] += 0.5 * (left[j] + right[j])
            if left[j] * right[j] > 0:
                agreed[j] += np.sign(left[j]) * min(abs(left[j]), abs(right[j]))
    scatter = 1.4826 * max(middle(np.abs(left[whole])), middle(np.abs(right[whole])))
    return agreed, mean, scatter


@compiled
def _ends(row: Floats) -> tuple[float, float]:
    """Where ink begins and ends along a mark (along,), in samples, half-way up to its strong ink; at the very ends where it has none."""
    count = len(row)
    place = STRONG_ALONG * (count - 1)
    low = int(place)
    below, above = ranked(row, low), ranked(row, min(low + 1, count - 1))
    level = below + (above - below) * (place - low)
    least = 0.5 * max(level, 1e-6)
    first, last = 0, count - 1
    while first < count - 1 and row[first] <= least:
        first += 1
    while last > first and row[last] <= least:
        last -= 1
    if row[first] <= least:
        first, last = 0, count - 1
    before, behind = row[max(first - 1, 0)], row[min(last + 1, count - 1)]
    return first - _part(row[first], before, 0.5 * level), last + _part(row[last], behind, 0.5 * level)


@compiled
def _part(inner: float, outer: float, half: float) -> float:
    """How far from the inner sample towards the outer one the ink is half."""
    apart = inner - outer
    return min(max((inner - half) / (apart if apart != 0 else 1.0), 0.0), 1.0)


@compiled
def peaks(profile: Floats, first: int, last: int) -> tuple[Floats, Whole]:
    """The most ink (n,) of profiles (n, across) from sample `first` to before `last`, and at which sample it stands (n,)."""
    most, where = np.empty(len(profile)), np.empty(len(profile), np.int64)
    for j in range(len(profile)):
        best = first
        for b in range(first + 1, last):
            if profile[j, b] > profile[j, best]:
                best = b
        most[j], where[j] = profile[j, best], best
    return most, where


@compiled
def at_ends(profile: Floats) -> Floats:
    """The middle value (n, 2) of the first and the last sixth of profiles (n, across)."""
    n, count = profile.shape
    k = max(2, count // 6)
    found = np.empty((n, 2))
    for j in range(n):
        found[j, 0], found[j, 1] = middle(profile[j, :k]), middle(profile[j, count - k :])
    return found


@compiled
def typical_of(profile: Floats, chosen: Bools, amount: Floats, samples: Floats) -> Floats:
    """The middle value (across,) at each sample of the chosen profiles, over their amounts (n,), moved back by samples (n,)."""
    laid = shifted(profile[chosen], samples[chosen])
    share, typical = amount[chosen], np.empty(profile.shape[1])
    for b in range(len(typical)):
        typical[b] = middle(laid[:, b] / share)
    return typical


@compiled
def one_hump(typical: Floats, across: Floats) -> tuple[Floats, float, float]:
    """The hump round the centre of a profile (across,), recentred, its peak and its one-sigma in mm; what lies outside is neighbours or nothing."""
    count, half = len(across), len(across) // 2
    least = FOOT * typical.max()
    left, right = half, half
    while left > 0 and typical[left] >= least:
        left -= 1
    while right < count and typical[right] >= least:
        right += 1
    kept, total, moment = np.zeros(count), 0.0, 0.0
    for b in range(left, right):
        kept[b] = max(typical[b], 0.0)
        total += kept[b]
        moment += kept[b] * across[b]
    centre = moment / total
    hump = np.interp(across + centre, across, kept)
    hump[(across + centre < across[0]) | (across + centre > across[-1])] = 0.0
    return hump, hump.max(), np.sqrt((hump * across**2).sum() / hump.sum())


@compiled
def bank_of(template: Floats) -> tuple[Floats, Floats]:
    """The template (an odd number of samples) moved by every whole sample (shifts, across), and the power of each inside the window (shifts,).

    Humps partly outside the window match only with what is inside it.
    """
    count = len(template)
    bank, power = np.zeros((count, count)), np.empty(count)
    for s in range(count):
        for b in range(count):
            k = b - s + count // 2
            if 0 <= k < count:
                bank[s, b] = template[k]
        power[s] = max((bank[s] ** 2).sum(), 0.5 * (template**2).sum())
    return bank, power


@compiled
def steepness(template: Floats, step: float) -> float:
    """The root of the summed squares of a template's slope, a mm."""
    total = 0.0
    for b in range(len(template)):
        low, high = max(b - 1, 0), min(b + 1, len(template) - 1)
        total += ((template[high] - template[low]) / ((high - low) * step)) ** 2
    return float(np.sqrt(total))
