"""The simulated camera: a sheet on a desk, a lamp, a lens, a sensor."""

import cv2
import numpy as np
from numpy.typing import NDArray

from dusky_sieve.core.layout import Backing, Layout
from dusky_sieve.core.simulate.bands import chance, in_colour, lead, scale, stripes
from dusky_sieve.core.simulate.clutter import cover_paper, desk, reflection, things_in_frame
from dusky_sieve.core.simulate.truth import Scene
from dusky_sieve.core.warp import warp_maps

Floats = NDArray[np.float64]
Image = NDArray[np.float32]
Photo = NDArray[np.uint8]

MAP_STEP = 8  # photo pixels between exact places of the warp; it is smooth between them


def _camera(layout: Layout, scene: Scene) -> tuple[Floats, Floats]:
    """Lens (3, 3) and pose (3, 4) of a pinhole camera over sheet mm, z towards the camera.

    The focal length is 0.85 frame widths, about that of a phone's main lens.
    """
    w, h = scene.width, scene.height
    focal = 0.85 * max(w, h)
    turn, tilt, towards = (np.radians(v) for v in (scene.roll_deg, scene.tilt_deg, scene.tilt_towards_deg))

    def about_z(a: float) -> Floats:
        return np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])

    lean = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    rotation = about_z(towards) @ lean @ about_z(-towards) @ about_z(turn)
    # The pattern's size seen along the frame decides the distance.
    corners = (np.array([[x, y] for x in (-1, 1) for y in (-1, 1)]) * np.array(layout.size) / 2) @ rotation[:2, :2].T
    span = np.ptp(corners, axis=0) / (w, h)
    scale = scene.fill / max(span)
    away = np.array([scene.shift[0] * w / scale, scene.shift[1] * h / scale, focal / scale])
    middle = np.array([layout.size[0] / 2, layout.size[1] / 2, 0.0])
    pose = np.column_stack([rotation[:, 0], rotation[:, 1], -rotation[:, 2], away - rotation @ middle])
    lens = np.array([[focal, 0, (w - 1) / 2], [0, focal, (h - 1) / 2], [0, 0, 1]])
    return lens, pose


def sheet_to_photo(layout: Layout, scene: Scene) -> Floats:
    """Homography (3, 3) from sheet mm to photo pixels; curl and lens distortion come on top of it."""
    lens, pose = _camera(layout, scene)
    full = lens @ pose[:, [0, 1, 3]]
    return np.asarray(full / full[2, 2], dtype=np.float64)


def _lift(points: Floats, layout: Layout, scene: Scene) -> Floats:
    """Height (n,) mm of curled paper above the desk: an arch across, a slighter one along."""
    x, y = ((points[:, k] + scene.margin_mm) / (layout.size[k] + 2 * scene.margin_mm) for k in (0, 1))
    return np.asarray(
        scene.curl_mm * (np.sin(np.pi * np.clip(x, 0, 1)) + 0.3 * np.sin(np.pi * np.clip(y, 0, 1)) - 0.65)
    )


def place_on_photo(points: Floats, layout: Layout, scene: Scene) -> Floats:
    """Photo pixels (n, 2) of sheet points (n, 2) mm, curl and lens distortion included."""
    lens, pose = _camera(layout, scene)
    solid = np.column_stack([points, _lift(points, layout, scene), np.ones(len(points))])
    seen = solid @ (lens @ pose).T
    straight = seen[:, :2] / seen[:, 2:]
    half, middle = max(scene.width, scene.height) / 2, np.array([scene.width, scene.height]) / 2
    bent = straight.copy()
    for _ in range(8):  # the distortion is given from photo to straight; turned round by fixed point
        u = (bent - middle) / half
        bent = middle + (straight - middle) / (1 + scene.lens_k1 * (u**2).sum(axis=1, keepdims=True))
    return bent


def px_per_mm(homography: Floats, layout: Layout) -> float:
    """Photo pixels per sheet mm at the pattern's centre."""
    x, y = layout.size[0] / 2, layout.size[1] / 2
    points = np.array([[[x, y], [x + 1, y], [x, y + 1]]])
    a, b, c = cv2.perspectiveTransform(points, homography)[0]
    u, v = b - a, c - a
    return float(np.sqrt(abs(u[0] * v[1] - u[1] * v[0])))


def photograph(
    sheet: Image, sheet_px_per_mm: float, layout: Layout, scene: Scene, backing: Backing, rng: np.random.Generator
) -> Photo:
    """The photo (rows, columns, 3) as sRGB bytes, before JPEG."""
    w, h = scene.width, scene.height
    cover_paper(sheet, sheet_px_per_mm, scene, backing, rng)
    mx, my = warp_maps(
        lambda grid: (_to_sheet(grid, layout, scene) + scene.margin_mm) * sheet_px_per_mm - 0.5, (w, h), MAP_STEP
    )
    picture = np.asarray(cv2.remap(sheet, mx, my, cv2.INTER_LINEAR), np.float32)
    there = (mx > -0.5) & (my > -0.5) & (mx < sheet.shape[1] - 0.5) & (my < sheet.shape[0] - 0.5)
    beside = 1 - cv2.GaussianBlur(there.astype(np.float32), (0, 0), 0.7)
    lead(picture, desk(h, w, scene, rng), beside)
    del mx, my
    things_in_frame(picture, place_on_photo(_corners(layout), layout, scene), scene, rng)
    light = _light(h, w, scene, rng)
    scale(picture, (light * (band * scene.exposure) for band in scene.kelvin_cast))
    glow = 0.01 * light if backing == "dark" else np.zeros_like(light)  # the lamp's, in the film
    if scene.glare > 0:
        glow += reflection(h, w, place_on_photo(_corners(layout), layout, scene), scene, rng)
    if glow.any():
        picture += in_colour(glow, (1, 1, 1))
    return _develop(_through_lens(picture, scene, rng), scene)


def _through_lens(picture: Image, scene: Scene, rng: np.random.Generator) -> Image:
    """Blur of lens and hand, and the sensor's noise; the picture may be changed in place."""
    if scene.lens_blur_px > 0:
        picture = np.asarray(cv2.GaussianBlur(picture, (0, 0), scene.lens_blur_px), np.float32)
    if scene.motion_px > 0:
        reach = int(np.ceil(scene.motion_px)) | 1
        turn = cv2.getRotationMatrix2D((reach / 2, reach / 2), float(rng.uniform(0, 180)), 1)
        line = np.zeros((reach + 2, reach + 2), np.float32)
        line[reach // 2 + 1, 1:-1] = 1
        kernel = np.asarray(cv2.warpAffine(line, turn, (reach + 2, reach + 2)), np.float32)
        kernel /= max(float(kernel.sum()), 1e-6)
        picture = np.asarray(cv2.filter2D(picture, -1, kernel), np.float32)
    for rows in stripes(len(picture)):
        noise = chance(picture[rows].shape, rng)
        noise *= np.sqrt(np.maximum(picture[rows], 0.02))
        noise *= scene.noise
        picture[rows] += noise
    if scene.chroma_noise > 0:
        blotch = chance((picture.shape[0] // 2, picture.shape[1] // 2, 3), rng)
        picture *= 1 + scene.chroma_noise * cv2.resize(blotch, picture.shape[1::-1])
    return picture


def _to_sheet(grid: Floats, layout: Layout, scene: Scene) -> Floats:
    """Sheet points (n, 2) mm seen at photo pixels (n, 2): the camera turned round."""
    half, middle = max(scene.width, scene.height) / 2, np.array([scene.width, scene.height]) / 2
    u = (grid - middle) / half
    straight = middle + (grid - middle) * (1 + scene.lens_k1 * (u**2).sum(axis=1, keepdims=True))
    back = np.linalg.inv(sheet_to_photo(layout, scene))
    lens, pose = _camera(layout, scene)
    on_sheet = cv2.perspectiveTransform(straight[None], back)[0]
    for _ in range(4 if scene.curl_mm else 0):
        solid = np.column_stack([on_sheet, _lift(on_sheet, layout, scene), np.ones(len(grid))]) @ (lens @ pose).T
        level = solid - _lift(on_sheet, layout, scene)[:, None] * (lens @ pose)[:, 2]
        slide = solid[:, :2] / solid[:, 2:] - level[:, :2] / level[:, 2:]
        on_sheet = cv2.perspectiveTransform((straight - slide)[None], back)[0]
    return np.asarray(on_sheet, np.float64)


def _corners(layout: Layout) -> Floats:
    w, h = layout.size
    return np.array([[0.0, 0.0], [w, 0.0], [w, h], [0.0, h]])


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
    light = light * (1 - scene.vignette * 2 * (xs**2 + ys**2))
    return np.asarray(cv2.resize(light.astype(np.float32), (w, h), interpolation=cv2.INTER_CUBIC), np.float32)


def _develop(linear: Image, scene: Scene) -> Photo:
    """sRGB bytes from linear light (IEC 61966-2-1), through the phone's own denoising, tone curve and sharpening."""
    curve = np.linspace(0, 1, 4096)
    table = np.where(curve <= 0.0031308, curve * 12.92, 1.055 * curve ** (1 / 2.4) - 0.055)
    table = (table + scene.contrast * (table**2 * (3 - 2 * table) - table)) * 255
    bytes_of = table.round().astype(np.uint8)
    codes: Photo = np.empty(linear.shape, np.uint8)
    for rows in stripes(len(linear)):
        steps = linear[rows] * 4095 + 0.5
        codes[rows] = bytes_of.take(np.clip(steps, 0, 4095, out=steps).astype(np.uint16))
    for _ in range(scene.denoise):
        codes = np.asarray(cv2.bilateralFilter(codes, 5, 12, 2), np.uint8)
    if scene.sharpen > 0:
        soft = cv2.GaussianBlur(codes, (0, 0), 1.2)
        codes = np.asarray(cv2.addWeighted(codes, 1 + scene.sharpen, soft, -scene.sharpen, 0), np.uint8)
    return codes
