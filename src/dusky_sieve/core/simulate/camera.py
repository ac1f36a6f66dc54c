"""The simulated camera: a sheet on a desk, a lamp, a lens, a sensor."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.simulate.truth import Scene

Floats = NDArray[np.float64]
Image = NDArray[np.float32]
Photo = NDArray[np.uint8]


def sheet_to_photo(layout: Layout, scene: Scene) -> Floats:
    """Homography (3, 3) from sheet mm to photo pixels of a pinhole camera (focal length 0.85 frame widths)."""
    w, h = scene.width, scene.height
    focal = 0.85 * max(w, h)
    turn, tilt, towards = (np.radians(v) for v in (scene.roll_deg, scene.tilt_deg, scene.tilt_towards_deg))

    def about_z(a: float) -> Floats:
        return np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])

    lean = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    pose = about_z(towards) @ lean @ about_z(-towards) @ about_z(turn)
    # The pattern's size seen along the frame decides the distance.
    corners = (np.array([[x, y] for x in (-1, 1) for y in (-1, 1)]) * np.array(layout.size) / 2) @ pose[:2, :2].T
    span = np.ptp(corners, axis=0) / (w, h)
    px_per_mm = scene.fill / max(span)
    distance = focal / px_per_mm
    centre = np.array([[1, 0, -layout.size[0] / 2], [0, 1, -layout.size[1] / 2], [0, 0, 1]])
    place = np.column_stack(
        [pose[:, 0], pose[:, 1], [scene.shift[0] * w / px_per_mm, scene.shift[1] * h / px_per_mm, distance]]
    )
    lens = np.array([[focal, 0, (w - 1) / 2], [0, focal, (h - 1) / 2], [0, 0, 1]])
    full = lens @ place @ centre
    return np.asarray(full / full[2, 2], dtype=np.float64)


def px_per_mm(homography: Floats, layout: Layout) -> float:
    """Photo pixels per sheet mm at the pattern's centre."""
    x, y = layout.size[0] / 2, layout.size[1] / 2
    points = np.array([[[x, y], [x + 1, y], [x, y + 1]]])
    a, b, c = cv2.perspectiveTransform(points, homography)[0]
    u, v = b - a, c - a
    return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))


def photograph(
    sheet: Image,
    sheet_px_per_mm: float,
    layout: Layout,
    scene: Scene,
    backing: Backing,
    rng: np.random.Generator,
) -> Photo:
    """The photo (rows, columns, 3) as sRGB bytes, before JPEG."""
    w, h = scene.width, scene.height
    homography = sheet_to_photo(layout, scene)
    s, m = sheet_px_per_mm, scene.margin_mm
    to_mm = np.array([[1 / s, 0, 0.5 / s - m], [0, 1 / s, 0.5 / s - m], [0, 0, 1]])
    seen = _warp(sheet, homography @ to_mm, homography, layout, scene)
    solid = np.ones(sheet.shape[:2], np.float32)
    cover = _warp(solid, homography @ to_mm, homography, layout, scene)[..., None]
    picture = seen + (1 - cover) * _desk(h, w, scene, rng)
    light = _light(h, w, scene, rng)
    picture *= light[..., None] * np.array(scene.kelvin_cast, np.float32) * scene.exposure
    if backing == "dark":
        picture += 0.01 * light[..., None]  # the lamp's glow in the film
    if scene.lens_blur_px > 0:
        picture = cv2.GaussianBlur(picture, (0, 0), scene.lens_blur_px)
    noise = rng.standard_normal(picture.shape, dtype=np.float32)
    picture += noise * scene.noise * np.sqrt(np.maximum(picture, 0.02))
    return _develop(picture)


def _warp(image: Image, raster_to_photo: Floats, homography: Floats, layout: Layout, scene: Scene) -> Image:
    """Image as the lens sees it, with curl and lens distortion where the scene has them."""
    size = (scene.width, scene.height)
    if scene.curl_mm == 0 and scene.lens_k1 == 0:
        return np.asarray(cv2.warpPerspective(image, raster_to_photo, size, flags=cv2.INTER_LINEAR), np.float32)
    xs, ys = np.meshgrid(np.arange(0, size[0], dtype=np.float32), np.arange(0, size[1], dtype=np.float32))
    half = max(size) / 2
    u, v = (xs - size[0] / 2) / half, (ys - size[1] / 2) / half
    bend = 1 + scene.lens_k1 * (u * u + v * v)
    inverse = np.linalg.inv(raster_to_photo)
    ux, vy = u * bend * half + size[0] / 2, v * bend * half + size[1] / 2
    d = inverse[2, 0] * ux + inverse[2, 1] * vy + inverse[2, 2]
    mx = (inverse[0, 0] * ux + inverse[0, 1] * vy + inverse[0, 2]) / d
    my = (inverse[1, 0] * ux + inverse[1, 1] * vy + inverse[1, 2]) / d
    if scene.curl_mm:
        # Paper lifted along its middle: seen from a tilt, points slide by a few tenths of the lift.
        phase = np.clip(mx / image.shape[1], 0, 1)
        slide = scene.curl_mm * 0.15 * np.sin(np.pi * phase) * image.shape[1] / (layout.size[0] + 2 * scene.margin_mm)
        my = my + slide.astype(np.float32)
    return np.asarray(cv2.remap(image, mx.astype(np.float32), my.astype(np.float32), cv2.INTER_LINEAR), np.float32)


def _desk(h: int, w: int, scene: Scene, rng: np.random.Generator) -> Image:
    """A wooden desk: long streaks of grain at a random angle."""
    small = rng.standard_normal((h // 4 + 1, w // 4 + 1), dtype=np.float32)
    streak = cv2.GaussianBlur(small, (0, 0), sigmaX=25, sigmaY=1.2) * 8 + cv2.GaussianBlur(small, (0, 0), 12) * 6
    grain = cv2.resize(streak, (w, h), interpolation=cv2.INTER_LINEAR)
    tone = np.array([0.33, 0.24, 0.16], np.float32) * rng.uniform(0.5, 1.6)
    return np.clip(tone * (1 + scene.grain * grain[..., None] * 3), 0.01, 1).astype(np.float32)


def _light(h: int, w: int, scene: Scene, rng: np.random.Generator) -> Image:
    """Lamp falling off across the frame, with a soft-edged shadow."""
    ys, xs = np.mgrid[0:64, 0:64].astype(np.float32) / 63 - 0.5
    a = np.radians(scene.lamp_towards_deg)
    along = np.clip(xs * np.cos(a) + ys * np.sin(a) + 0.5, 0, 1)
    light = scene.lamp_falloff ** -(1 - along)
    if scene.shadow:
        b = rng.uniform(0, 2 * np.pi)
        edge = (xs * np.cos(b) + ys * np.sin(b) - rng.uniform(-0.15, 0.15)) / 0.06
        light = light * (1 - scene.shadow / (1 + np.exp(-edge)))
    return np.asarray(cv2.resize(light.astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC), np.float32)


def _develop(linear: Image) -> Photo:
    """sRGB bytes from linear light (IEC 61966-2-1)."""
    linear = np.clip(linear, 0, 1)
    curve = np.linspace(0, 1, 4096)
    table = np.where(curve <= 0.0031308, curve * 12.92, 1.055 * curve ** (1 / 2.4) - 0.055) * 255
    return table.astype(np.float32)[np.round(linear * 4095).astype(np.int32)].round().astype(np.uint8)
