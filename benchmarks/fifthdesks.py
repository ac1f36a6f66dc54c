"""What sheets of the fifth world lie on: planks, tiles, cloth, keys, newsprint, stone, glass, ruled paper, a cutting mat."""

import cv2
import numpy as np
from numpy.typing import NDArray

Singles = NDArray[np.float32]
Rng = np.random.Generator
DESKS = ("planks", "tiles", "tartan", "keys", "cloth", "news", "granite", "glass", "paper", "mat")


def desk(h: int, w: int, rng: Rng, names: list[str]) -> Singles:
    """One desk's share of the light (rows, columns, 3)."""
    kind = str(rng.choice(DESKS))
    names.append(f"on {kind}")
    way = rng.uniform(0, np.pi)
    ys, xs = np.mgrid[0:h, 0:w].astype(np.float32)
    along, across = xs * np.cos(way) + ys * np.sin(way), ys * np.cos(way) - xs * np.sin(way)
    top = np.empty((h, w, 3), np.float32)
    top[:] = rng.uniform(0.05, 0.6, 3) * 0.5 + rng.uniform(0.03, 0.35)
    if kind in ("news", "keys"):
        _lettered(top, kind, rng, float(np.degrees(way)), along, across)
    elif kind in ("planks", "granite", "glass"):
        _mottled(top, kind, rng, float(np.degrees(way)), across)
    else:
        _woven(top, kind, rng, along, across)
    return np.clip(top, 0, 1)


def _lettered(top: Singles, kind: str, rng: Rng, degrees: float, along: Singles, across: Singles) -> None:
    """Columns of print, or a keyboard."""
    h, w = top.shape[:2]
    mask, news = np.zeros((h, w), np.uint8), kind == "news"
    high, wide = (34, 700) if news else (int(rng.uniform(110, 200)),) * 2
    for y in range(20, h, high):
        for x in range(0, w, wide):
            words = "".join(rng.choice(list("etaoin shrdlu cmfwyp"), 34)) if news else str(rng.choice(list("QWERTYUIOPASDFGH")))  # fmt: skip
            cv2.putText(mask, words, (x, y), 3 if news else 0, 0.9 if news else 1.6, (255,), 2, cv2.LINE_AA)
    if news:
        turned = cv2.warpAffine(mask, cv2.getRotationMatrix2D((w / 2, h / 2), degrees, 1.4), (w, h), borderMode=cv2.BORDER_REFLECT)  # fmt: skip
        top[:] = 0.62 * (1 - 0.85 * turned.astype(np.float32)[..., None] / 255)
    else:
        top[:] = 0.03
        top[(along % high > 14) & (across % high > 14)] = 0.09
        top += 0.5 * mask.astype(np.float32)[..., None] / 255


def _mottled(top: Singles, kind: str, rng: Rng, degrees: float, across: Singles) -> None:
    """Wood with seams, stone, or a pane."""
    h, w = top.shape[:2]
    cells = {"planks": (h // 6, w // 90 + 2), "granite": (h // 5, w // 5), "glass": (h // 600 + 2, w // 600 + 2)}[kind]
    rough = cv2.resize(rng.standard_normal(cells, dtype=np.float32), (w, h), interpolation=cv2.INTER_CUBIC)
    if kind == "planks":
        rough = cv2.warpAffine(rough, cv2.getRotationMatrix2D((w / 2, h / 2), degrees, 1.5), (w, h), borderMode=cv2.BORDER_REFLECT)  # fmt: skip
    elif kind == "glass":
        top[:] = 0.12
    top *= np.clip(1 + {"planks": 0.22, "granite": 0.5, "glass": 0.4}[kind] * rough, 0.1, 2.5)[..., None]
    if kind == "planks":
        top[across % rng.uniform(300, 700) < 5] *= 0.3


def _woven(top: Singles, kind: str, rng: Rng, along: Singles, across: Singles) -> None:
    """Tiles, tartan, cloth, ruled paper, or a mat with a grid."""
    u = rng.uniform
    if kind == "tiles":
        side = u(120, 500)
        top *= (1 + 0.15 * np.sin(12.9898 * np.floor(along / side) + 78.233 * np.floor(across / side)))[..., None]
        top[(along % side < 8) | (across % side < 8)] = 0.6
    elif kind == "tartan":
        for _ in range(4):
            period, wide, colour = u(60, 200), u(10, 50), (0.5 + 0.5 * u(0.1, 0.9, 3)).astype(np.float32)
            top[along % period < wide] *= colour
            top[across % period < wide] *= colour
    elif kind == "cloth":
        threads = 0.12 * np.sin(along * u(0.5, 1.5)) + 0.12 * np.sin(across * u(0.5, 1.5))
        top *= (1 + threads + 0.1 * rng.standard_normal(along.shape, dtype=np.float32))[..., None]
    elif kind == "paper":
        top[:] = 0.75
        top[across % u(50, 120) < 3] *= 0.5
    else:
        side = u(60, 160)
        top[:] = (0.05, 0.2, 0.12)
        top[(along % side < 3) | (across % side < 3)] = 0.5
