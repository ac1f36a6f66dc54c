"""Bytes to values and back: photos to upright arrays, documents to and from disk, the shipped tables."""

import io
import os
import struct
import warnings
from collections.abc import Callable
from functools import cache
from importlib import resources
from pathlib import Path
from typing import TYPE_CHECKING, Any

import cv2
import numpy as np
import pillow_heif
from numpy.typing import NDArray
from PIL import Image, ImageOps, TiffImagePlugin, UnidentifiedImageError
from pydantic import TypeAdapter

from dusky_sieve.core.errors import TooLarge, UnknownThing, UnusableInput
from dusky_sieve.core.layout import Layout, parse_layout

if TYPE_CHECKING:  # what only some tables need is imported with them: not every command pays for all
    from dusky_sieve.core.advice import CureTable, Ladder
    from dusky_sieve.core.diagnosis import CauseTable
    from dusky_sieve.core.steps import StepTable
    from dusky_sieve.core.upkeep import UpkeepTable

MAX_PHOTO_BYTES = 40_000_000  # an upload's limit
MAX_PIXELS = 64_500_000  # reading contract: 0.3 to 64 megapixels, as phones count them: 9248 x 6936 are 64.1 million
MIN_PIXELS = 300_000
FORMATS = {"JPEG": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp", "TIFF": "image/tiff", "HEIF": "image/heic"}
pillow_heif.register_heif_opener()
# What EXIF orientations 2 to 8 ask for; 1 and nonsense leave the photo as it is.
TURNS: dict[int, Callable[[NDArray[np.uint8]], Any]] = {
    2: lambda a: cv2.flip(a, 1),
    3: lambda a: cv2.rotate(a, cv2.ROTATE_180),
    4: lambda a: cv2.flip(a, 0),
    5: lambda a: cv2.transpose(a),
    6: lambda a: cv2.rotate(a, cv2.ROTATE_90_CLOCKWISE),
    7: lambda a: cv2.flip(cv2.transpose(a), -1),
    8: lambda a: cv2.rotate(a, cv2.ROTATE_90_COUNTERCLOCKWISE),
}
SIXTEEN_BIT = ("I;16", "I;16B", "I;16L", "I")


def decode_photo(content: bytes, name: str) -> NDArray[np.uint8]:
    """An upright sRGB photo (rows, columns, 3) from a file's bytes, told by content and not by name.

    Raises UnusableInput for what is no photo, is truncated or too small, TooLarge beyond the limits; the size is
    checked before any pixel is decoded.
    """
    image = _open(content, name)
    fast = _fast(content, image)
    if fast is not None:
        return fast
    try:
        image.load()
    except (OSError, SyntaxError, ValueError, EOFError, struct.error) as error:
        raise UnusableInput(f"{name}: the file is damaged or cut short ({error}). Send the photo again.") from None
    return _upright(image)


def _fast(content: bytes, image: Image.Image) -> NDArray[np.uint8] | None:
    """A whole, ordinary colour JPEG through OpenCV, which takes a third of the time; None has Pillow decide.

    A JPEG that is cut short lacks its end marker: OpenCV would fill the rest with grey and say nothing.
    """
    if image.format != "JPEG" or image.mode != "RGB" or b"\xff\xd9" not in content[-4096:]:
        return None
    decoded = cv2.imdecode(np.frombuffer(content, np.uint8), cv2.IMREAD_COLOR_RGB | cv2.IMREAD_IGNORE_ORIENTATION)
    if decoded is None:
        return None
    pixels = np.asarray(decoded, np.uint8)
    turn = TURNS.get(image.getexif().get(0x0112, 1))
    return np.asarray(pixels if turn is None else turn(pixels), np.uint8)


def sniff_photo(content: bytes, name: str) -> str:
    """The media type of a photo's bytes, sizes checked, nothing decoded."""
    return FORMATS[_open(content, name).format or ""]


def _open(content: bytes, name: str) -> Image.Image:
    if len(content) == 0:
        raise UnusableInput(f"{name}: the file is empty. Send the photo again.")
    if len(content) > MAX_PHOTO_BYTES:
        raise TooLarge(
            f"{name}: {len(content) / 1e6:.0f} MB is more than the 40 MB a photo may have. Save it as JPEG and send that."
        )
    image: Image.Image
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image = Image.open(io.BytesIO(content), formats=list(FORMATS))
    except (UnidentifiedImageError, OSError, SyntaxError, ValueError, struct.error, Image.DecompressionBombError):
        deep = _deep_tiff(content)
        if deep is None:
            raise UnusableInput(
                f"{name}: not a photo. Send a JPEG, PNG, WebP, TIFF or HEIC picture of the sheet."
            ) from None
        image = deep
    pixels = image.width * image.height
    if pixels > MAX_PIXELS:
        raise TooLarge(f"{name}: {pixels / 1e6:.0f} megapixels are more than the 64 that can be read. Send it smaller.")
    if pixels < MIN_PIXELS:
        raise UnusableInput(
            f"{name}: {image.width} x {image.height} pixels are too few to see single marks. Photograph the sheet with at least 2 megapixels."
        )
    return image


def _deep_tiff(content: bytes) -> Image.Image | None:
    """A TIFF with 16 bits a colour, which Pillow does not open, brought to 8 by OpenCV. None where it is none."""
    if content[:4] not in (b"II*\0", b"MM\0*"):
        return None
    try:
        tags = TiffImagePlugin.ImageFileDirectory_v2(content[:8])
        stream = io.BytesIO(content)
        stream.seek(tags.next)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            tags.load(stream)
        if int(tags[256]) * int(tags[257]) > MAX_PIXELS:
            return None
        decoded = cv2.imdecode(np.frombuffer(content, np.uint8), cv2.IMREAD_COLOR_RGB | cv2.IMREAD_ANYDEPTH)
    except (KeyError, ValueError, OSError, SyntaxError, TypeError, struct.error, cv2.error):
        return None
    if decoded is None or decoded.dtype != np.uint16:
        return None
    image = Image.fromarray((np.asarray(decoded, np.uint16) >> 8).astype(np.uint8))
    image.format = "TIFF"
    return image


def _upright(image: Image.Image) -> NDArray[np.uint8]:
    if image.mode in SIXTEEN_BIT:
        image = Image.fromarray((np.asarray(image, np.uint32) >> 8).astype(np.uint8))
    turned = ImageOps.exif_transpose(image)
    if turned.mode in ("RGBA", "LA", "PA") or "transparency" in turned.info:
        flat = Image.new("RGBA", turned.size, "white")
        turned = Image.alpha_composite(flat, turned.convert("RGBA"))
    return np.ascontiguousarray(np.asarray(turned.convert("RGB"), np.uint8))


def encode_jpeg(pixels: NDArray[np.uint8], quality: int) -> bytes:
    """JPEG bytes of an RGB array."""
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG", quality=quality)
    return out.getvalue()


def read_bytes(path: Path) -> bytes:
    """A file's bytes; UnusableInput where it cannot be opened."""
    try:
        return path.read_bytes()
    except OSError as error:
        raise UnusableInput(f"{path}: cannot be read ({error.strerror or error}).") from None


def write_synced(path: Path, content: bytes) -> None:
    """Writes a whole file or nothing: a temporary file, synced, renamed, its folder synced."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f".{path.name}.{os.getpid()}.part")
    with part.open("wb") as file:
        file.write(content)
        file.flush()
        os.fsync(file.fileno())
    part.replace(path)
    folder = os.open(path.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def load_layout(path: Path) -> Layout:
    """A layout file from disk."""
    return parse_layout(read_bytes(path), path.name)


def _shipped(*parts: str) -> bytes:
    return resources.files("dusky_sieve").joinpath("data", *parts).read_bytes()


@cache
def step_table() -> "StepTable":
    """What each kind of step takes, needs and warns of."""
    from dusky_sieve.core.steps import StepTable

    table: StepTable = TypeAdapter(StepTable).validate_json(_shipped("steps.json"))
    return table


@cache
def upkeep_table() -> "UpkeepTable":
    """Kinds of upkeep and their usual intervals."""
    from dusky_sieve.core.upkeep import UpkeepTable

    table: UpkeepTable = TypeAdapter(UpkeepTable).validate_json(_shipped("upkeep.json"))
    return table


@cache
def cause_table() -> "CauseTable":
    """Priors and likelihoods of the causes."""
    from dusky_sieve.core.diagnosis import CauseTable

    return CauseTable.model_validate_json(_shipped("causes.json"))


@cache
def cure_table() -> "CureTable":
    """How likely each step clears a sheet under each cause, and what time, pad and risk count."""
    from dusky_sieve.core.advice import CureTable

    return CureTable.model_validate_json(_shipped("cures.json"))


@cache
def ladders() -> "dict[str, Ladder]":
    """Shipped ladders by id."""
    from dusky_sieve.core.advice import parse_ladder

    folder = resources.files("dusky_sieve").joinpath("data", "ladders")
    found = [
        parse_ladder(item.read_bytes(), item.name) for item in folder.iterdir() if item.name.endswith(".ladder.json")
    ]
    return {ladder.id: ladder for ladder in sorted(found, key=lambda ladder: ladder.id)}


def ladder(ladder_id: str) -> "Ladder":
    """A shipped ladder; UnknownThing names those there are."""
    known = ladders()
    if ladder_id not in known:
        raise UnknownThing(f"There is no ladder “{ladder_id}”. Known ladders: {', '.join(known)}.")
    return known[ladder_id]


def load_ladder(path: Path) -> "Ladder":
    """A ladder file from disk."""
    from dusky_sieve.core.advice import parse_ladder

    return parse_ladder(read_bytes(path), path.name)


def shipped_layout(name: str) -> Layout:
    """One of the layouts that ship with the application."""
    return parse_layout(_shipped("layouts", f"{name}.layout.json"), name)
