"""What lies about when a sheet is photographed: the desk, pen strokes, a thumb, a ruler, a lamp's reflection."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing
from dusky_sieve.core.simulate.bands import chance, in_colour, lead
from dusky_sieve.core.simulate.truth import Scene

Floats = NDArray[np.float64]
Image = NDArray[np.float32]

SKIN = (0.55, 0.33, 0.24)  # linear reflectance
PENS = ((0.05, 0.08, 0.35), (0.03, 0.03, 0.04), (0.5, 0.04, 0.05), (0.1, 0.35, 0.1))


def cover_paper(sheet: Image, px_per_mm: float, scene: Scene, backing: Backing, rng: np.random.Generator) -> None:
    """Pen strokes on the sheet's raster: ticks, rings and notes, mostly beside the pattern."""
    h, w = sheet.shape[:2]
    for k in range(scene.pen):
        mask = np.zeros((h, w), np.uint8)
        across = k % 4 == 0
        x = float(rng.uniform(0.1, 0.9)) * w if across else float(rng.choice([0.03, 0.97])) * w
        start = np.array([x, rng.uniform(0.05, 0.95) * h])
        walk = np.cumsum(rng.normal(0, 2.2 * px_per_mm, (int(rng.integers(3, 9)), 2)), axis=0) * (0.4 if across else 1)
        line = np.round(start + walk).astype(np.int32).reshape(-1, 1, 2)
        cv2.polylines(mask, [line], False, (255,), max(1, round(px_per_mm * 0.45)), cv2.LINE_AA)
        colour = np.array(PENS[int(rng.integers(0, len(PENS)))], np.float32)
        inked = mask > 0
        share = mask[inked, None] / np.float32(255)
        sheet[inked] += share * (colour - sheet[inked]) * np.float32(0.85 if backing == "light" else 0.4)


def desk(h: int, w: int, scene: Scene, rng: np.random.Generator) -> Image:
    """Linear reflectance (h, w, 3) of what the sheet lies on."""
    tone = np.array([0.33, 0.24, 0.16], np.float32) * np.float32(rng.uniform(0.5, 1.6))
    small = chance((h // 4 + 1, w // 4 + 1), rng)
    if scene.desk in ("plain", "dark"):
        tone = rng.uniform(0.15, 0.8, 3).astype(np.float32) if scene.desk == "plain" else np.full(3, 0.03, np.float32)
        streak = cv2.GaussianBlur(small, (0, 0), 2) * 1.5
    elif scene.desk == "tiles":
        ys, xs = np.mgrid[0 : h // 4 + 1, 0 : w // 4 + 1].astype(np.float32)
        side = float(rng.uniform(25, 120))
        joint = (np.minimum(xs % side, ys % side) < side * 0.06).astype(np.float32)
        streak = cv2.GaussianBlur(small, (0, 0), 3) * 2 - 6 * joint
    elif scene.desk == "weave":
        ys, xs = np.mgrid[0 : h // 4 + 1, 0 : w // 4 + 1].astype(np.float32)
        side = float(rng.uniform(2.5, 9))
        streak = 2.5 * np.sin(2 * np.pi * xs / side) * np.sin(2 * np.pi * ys / side * 1.07) + small
    elif scene.desk == "print":  # a page of a newspaper under the sheet: rows of short dark strokes
        streak = np.zeros_like(small)
        row = int(rng.integers(9, 24))
        for y in range(3, small.shape[0] - row // 2, row):
            words = np.repeat(rng.random(small.shape[1] // 6 + 1) < 0.75, 6)[: small.shape[1]]
            streak[y : y + row // 2] = -8.0 * words * (rng.random((row // 2, small.shape[1])) < 0.6)
    else:
        streak = cv2.GaussianBlur(small, (0, 0), sigmaX=25, sigmaY=1.2) * 8 + cv2.GaussianBlur(small, (0, 0), 12) * 6
    grain = cv2.resize(streak.astype(np.float32), (w, h), interpolation=cv2.INTER_LINEAR)
    wood = in_colour(1 + 3 * scene.grain * grain, tone)
    return np.clip(wood, 0.01, 1, out=wood)


def things_in_frame(picture: Image, corners: Floats, scene: Scene, rng: np.random.Generator) -> None:
    """A thumb that holds the sheet and a ruler beside it, drawn over the picture in place."""
    h, w = picture.shape[:2]
    middle = corners.mean(axis=0)
    if scene.ruler:
        a, b = corners[2], corners[3]
        out = (0.5 * (a + b) - middle) * 0.18
        along = (a - b) / max(float(np.linalg.norm(a - b)), 1.0)
        width = 0.16 * float(np.linalg.norm(0.5 * (a + b) - middle)) + 20
        normal = out / max(float(np.linalg.norm(out)), 1.0)
        start = b + out - along * width
        length = float(np.linalg.norm(a - b)) + 2 * width
        body = np.array(
            [start, start + along * length, start + along * length + normal * width, start + normal * width]
        )
        cv2.fillConvexPoly(picture, np.round(body).astype(np.int32), (0.75, 0.7, 0.45), cv2.LINE_AA)
        for k in range(60):
            p = start + along * length * k / 60
            q = p + normal * width * (0.45 if k % 5 == 0 else 0.25)
            cv2.line(
                picture, tuple(map(int, p)), tuple(map(int, q)), (0.05, 0.05, 0.05), max(1, w // 1500), cv2.LINE_AA
            )
    if scene.thumb:
        side = int(rng.integers(0, 4))
        edge = 0.5 * (corners[side] + corners[(side + 1) % 4])
        root = edge + (edge - middle) * 1.2
        tip = edge + (edge - middle) * float(rng.uniform(-0.02, 0.12))
        thick = int(0.16 * np.linalg.norm(corners[0] - corners[2]))
        mask = np.zeros((h, w), np.uint8)
        cv2.line(mask, tuple(map(int, root)), tuple(map(int, tip)), (255,), max(3, thick // 2), cv2.LINE_AA)
        soft = cv2.resize(cv2.GaussianBlur(cv2.resize(mask, (w // 4, h // 4)), (0, 0), 2), (w, h))
        lead(picture, np.array(SKIN) * rng.uniform(0.4, 1.3), soft / np.float32(255))


def reflection(h: int, w: int, corners: Floats, scene: Scene, rng: np.random.Generator) -> Image:
    """Light (h, w) that a lamp throws into the lens off the sheet: a soft oval somewhere on the pattern."""
    share = rng.uniform(0.1, 0.9, 2)
    top = corners[0] + share[0] * (corners[1] - corners[0])
    foot = corners[3] + share[0] * (corners[2] - corners[3])
    at = (top + share[1] * (foot - top)) / (w, h)
    ys, xs = np.mgrid[0:96, 0:96].astype(np.float32) / 95
    reach = float(np.linalg.norm(corners[0] - corners[2])) / max(w, h) * float(rng.uniform(0.06, 0.16))
    squeeze = float(rng.uniform(0.5, 1.0)) * w / h
    spot = np.exp(-0.5 * (((xs - at[0]) / reach) ** 2 + ((ys - at[1]) / reach / squeeze) ** 2)) ** 1.5
    return np.asarray(cv2.resize(scene.glare * 1.6 * spot, (w, h), interpolation=cv2.INTER_CUBIC), np.float32)
