"""What really is on a simulated sheet and how it is photographed: the truth document."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from dusky_sieve.core.errors import UnusableInput, parsed
from dusky_sieve.core.layout import Frozen, Layout, MarksBlock


class WeakMark(Frozen):
    """A mark with too little ink: faint all along, or broken part of the way."""

    nozzle: int
    ink: float = Field(ge=0.15, lt=0.6)
    broken: bool = False


class DeflectedMark(Frozen):
    """A mark out of its place by an offset of (x, y) micrometres."""

    nozzle: int
    offset_um: tuple[float, float]
    ink: float = Field(default=1.0, gt=0, le=1.5)


class LightLine(Frozen):
    """A light line across a fill: its centre below the top edge, width and the share of ink it lacks."""

    y_mm: float = Field(ge=0)
    width_um: float = Field(gt=0, le=5000)
    contrast: float = Field(gt=0, le=1)


class BlockTruth(Frozen):
    """The faults of one block."""

    all_missing: bool = False
    missing: tuple[int, ...] = ()
    weak: tuple[WeakMark, ...] = ()
    deflected: tuple[DeflectedMark, ...] = ()
    shift_um: tuple[float, float] = (0.0, 0.0)
    lines: tuple[LightLine, ...] = ()


Degrees = Annotated[float, Field(ge=-360, le=360)]


class Scene(Frozen):
    """How the sheet lies before the camera. Defaults are a careful photo taken by day."""

    width: int = Field(default=4032, ge=320, le=9600)
    height: int = Field(default=3024, ge=320, le=9600)
    fill: float = Field(default=0.75, gt=0.05, le=1.6, description="pattern's longer side as a share of the frame")
    tilt_deg: float = Field(default=4.0, ge=0, le=45)
    tilt_towards_deg: Degrees = 40.0
    roll_deg: Degrees = 3.0
    shift: tuple[float, float] = (0.0, 0.0)
    margin_mm: float = Field(default=12.0, ge=0, le=200, description="bare paper round the pattern")
    paper: tuple[float, float, float] = (0.86, 0.85, 0.82)
    kelvin_cast: tuple[float, float, float] = (1.0, 1.0, 1.0)
    lamp_falloff: float = Field(default=1.3, ge=1, le=6, description="brightest over darkest place of the sheet")
    lamp_towards_deg: Degrees = 120.0
    shadow: float = Field(default=0.0, ge=0, le=0.8, description="share of light a soft shadow takes away")
    lens_blur_px: float = Field(default=0.8, ge=0, le=20)
    noise: float = Field(default=0.006, ge=0, le=0.1, description="standard deviation at white, linear")
    exposure: float = Field(default=0.8, gt=0.05, le=1.5)
    jpeg_quality: int = Field(default=90, ge=20, le=100)
    curl_mm: float = Field(default=0.0, ge=-8, le=8)
    lens_k1: float = Field(default=0.0, ge=-0.15, le=0.15)
    words: bool = True
    grain: float = Field(default=0.05, ge=0, le=0.5, description="texture of the desk")
    # The print
    ink_law: Literal["coverage", "density"] = Field(default="coverage", description="how layers of ink add up")
    ragged: float = Field(default=0.0, ge=0, le=1, description="satellites, uneven edges, thick and thin places")
    bleed_um: float = Field(default=0.0, ge=0, le=80, description="how far ink creeps into the paper, one sigma")
    ink_spread: float = Field(default=0.05, ge=0, le=0.15, description="drop volume from nozzle to nozzle")
    place_spread_um: float = Field(default=7.0, ge=0, le=25, description="dot placement of a healthy nozzle")
    border: bool = Field(default=False, description="a printed frame, rules and numbers round the pattern")
    # What lies about
    desk: Literal["wood", "plain", "tiles", "weave", "print", "dark"] = "wood"
    pen: int = Field(default=0, ge=0, le=12, description="pen strokes on the paper, some across the pattern")
    thumb: bool = False
    ruler: bool = False
    glare: float = Field(default=0.0, ge=0, le=1, description="strength of a lamp's reflection on the pattern")
    haze: float = Field(default=0.0, ge=0, le=0.3, description="light that film throws back over dark")
    # The phone's own developing
    vignette: float = Field(default=0.0, ge=0, le=0.6)
    contrast: float = Field(default=0.0, ge=-0.3, le=0.6, description="bend of the tone curve")
    sharpen: float = Field(default=0.0, ge=0, le=1.5)
    denoise: int = Field(default=0, ge=0, le=2, description="passes of noise removal")
    motion_px: float = Field(default=0.0, ge=0, le=12)
    chroma_noise: float = Field(default=0.0, ge=0, le=0.05)


class Truth(Frozen):
    """A sheet's faults, by block id, and the scene."""

    format: Literal["dusky-sieve-truth"] = "dusky-sieve-truth"
    version: Literal[1] = 1
    blocks: dict[str, BlockTruth] = {}
    scene: Scene = Scene()


def parse_truth(text: str | bytes, layout: Layout, name: str = "truth") -> Truth:
    """A truth document checked against its layout; UnusableInput says which block or nozzle is unknown."""
    truth = parsed(Truth, text, name)
    blocks = {block.id: block for block in layout.blocks if isinstance(block, MarksBlock)}
    fills = {block.id for block in layout.blocks} - blocks.keys()
    for block_id, faults in truth.blocks.items():
        if block_id in fills:
            continue
        if block_id not in blocks:
            raise UnusableInput(f"{name}: blocks.{block_id}: the layout has no block of that id.")
        numbers = [*faults.missing, *(w.nozzle for w in faults.weak), *(d.nozzle for d in faults.deflected)]
        for nozzle in numbers:
            if nozzle not in blocks[block_id].numbers:
                raise UnusableInput(f"{name}: blocks.{block_id}: nozzle {nozzle} is not on the layout.")
    return truth


def random_faults(block: MarksBlock, rng: np.random.Generator, *, rate: float = 0.03) -> BlockTruth:
    """Faults of all kinds at about `rate` of the nozzles, each kind well apart from its threshold's edge."""
    numbers = np.array(block.numbers)
    chosen = rng.permutation(numbers)[: rng.binomial(block.nozzles, rate)]
    kinds = rng.choice(3, size=len(chosen), p=[0.5, 0.2, 0.3])
    missing = tuple(sorted(int(n) for n in chosen[kinds == 0]))
    weak = tuple(
        WeakMark(nozzle=int(n), ink=float(rng.uniform(0.22, 0.5)), broken=bool(rng.random() < 0.4))
        for n in chosen[kinds == 1]
    )
    pitch_um = block.nozzle_pitch * 1000
    deflected = []
    for n in chosen[kinds == 2]:
        # Mostly across travel, where satellites and wiping push drops; never so far that it lies on a neighbour.
        along, far = rng.normal(0, 0.25), rng.uniform(0.65, 1.4) * pitch_um
        turn = float(rng.choice([-1, 1])) * np.pi / 2 + along
        deflected.append(
            DeflectedMark(
                nozzle=int(n),
                offset_um=(round(float(np.cos(turn) * far), 1), round(float(np.sin(turn) * far), 1)),
                ink=0.4 if rng.random() < 0.1 else 1.0,
            )
        )
    return BlockTruth(missing=missing, weak=weak, deflected=tuple(deflected))
