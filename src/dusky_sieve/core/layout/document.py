"""The layout of a check sheet as a document: where each nozzle's mark belongs when nothing is wrong."""

from functools import lru_cache
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

MAX_NOZZLES = 4096  # nozzles in a block, layout contract
MAX_BLOCKS = 64  # blocks on a sheet, layout contract
MAX_BYTES = 1_000_000  # a layout file, layout contract
MAX_MM = 20_000.0  # a roll printer's widest sheet; beyond it the number is a slip of the pen
EDGE_MM = 0.5  # marks may stand out of the bounding box by rounding and by their own thickness


def _finite(value: float) -> float:
    if not -MAX_MM <= value <= MAX_MM:  # also refuses NaN
        raise ValueError(f"expected a length in mm between -{MAX_MM:g} and {MAX_MM:g}")
    return value


def _positive(value: float) -> float:
    if not 0 < value <= MAX_MM:
        raise ValueError(f"expected a length in mm above 0, at most {MAX_MM:g}")
    return value


Length = Annotated[float, Field(allow_inf_nan=False), AfterValidator(_positive)]
Offset = Annotated[float, Field(allow_inf_nan=False), AfterValidator(_finite)]
Hex = Annotated[str, Field(pattern=r"^#[0-9a-fA-F]{6}$")]
Word = Annotated[str, Field(min_length=1, max_length=80)]
Backing = Literal["light", "dark"]


class Frozen(BaseModel):
    """A value: frozen, and fields that later versions add are kept out of the way."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class _Block(Frozen):
    id: Word
    channel: Word
    head: int = Field(default=1, ge=1, le=64)
    ink: Hex
    backing: Backing = "light"
    origin: tuple[Offset, Offset]

    def __hash__(self) -> int:
        # What is worked out of a block is kept by it and asked for thousands of times a sheet: two fields tell most apart.
        return hash((self.id, self.origin))


class MarksBlock(_Block):
    """One mark per nozzle: mark i stands in column i mod columns, row i div columns."""

    kind: Literal["marks"]
    nozzles: int = Field(ge=1, le=MAX_NOZZLES)
    first_nozzle: int = Field(default=1, ge=1, le=1_000_000)
    nozzle_step: int = Field(default=1, ge=1, le=MAX_NOZZLES)
    nozzle_pitch: Length
    columns: int = Field(ge=1, le=MAX_NOZZLES)
    column_pitch: tuple[Offset, Offset]
    row_pitch: tuple[Offset, Offset]
    mark: tuple[Length, Length]

    @model_validator(mode="after")
    def _marks_stay_apart(self) -> Self:
        rows = -(-self.nozzles // self.columns)
        length, thickness = self.mark
        # Neighbours in the lattice are the nearest ones unless the two pitches are nearly parallel, so a small
        # window of column and row steps is enough to find an overlap.
        for rows_apart in range(min(rows, 4)):
            for columns_apart in range(-min(self.columns - 1, 64), min(self.columns, 65)):
                if rows_apart == 0 and columns_apart <= 0:
                    continue
                dx = columns_apart * self.column_pitch[0] + rows_apart * self.row_pitch[0]
                dy = columns_apart * self.column_pitch[1] + rows_apart * self.row_pitch[1]
                if abs(dx) < length * 0.999 and abs(dy) < thickness * 0.999:
                    field = "column_pitch" if rows_apart == 0 else "row_pitch"
                    raise ValueError(
                        f"{field}: expected marks that do not overlap, found neighbours {abs(dx):g} x {abs(dy):g} mm apart with marks of {length:g} x {thickness:g} mm"
                    )
        return self

    @property
    def numbers(self) -> range:
        """Nozzle numbers in the order of the marks."""
        return range(self.first_nozzle, self.first_nozzle + self.nozzles * self.nozzle_step, self.nozzle_step)


class SolidBlock(_Block):
    """A filled rectangle, `origin` its top left corner."""

    kind: Literal["solid"]
    size: tuple[Length, Length]
    nozzles: int | None = Field(default=None, ge=1, le=MAX_NOZZLES)
    first_nozzle: int = Field(default=1, ge=1, le=1_000_000)
    nozzle_pitch: Length | None = None


Block = Annotated[MarksBlock | SolidBlock, Field(discriminator="kind")]


class Layout(Frozen):
    """A whole check sheet. Lengths in mm; x along carriage travel, y along paper feed, origin top left."""

    format: Literal["dusky-sieve-layout"]
    version: Literal[1]
    name: Word
    size: tuple[Length, Length]
    blocks: tuple[Block, ...] = Field(min_length=1, max_length=MAX_BLOCKS)

    def __hash__(self) -> int:
        return hash((self.name, self.size))  # not of its blocks: it is asked for as often as theirs

    @model_validator(mode="after")
    def _blocks_fit(self) -> Self:
        seen: set[str] = set()
        for index, block in enumerate(self.blocks):
            if block.id in seen:
                raise ValueError(f"blocks[{index}].id: expected an id of its own, found a second {block.id!r}")
            seen.add(block.id)
            left, top, right, bottom = extent(block)
            if left < -EDGE_MM or top < -EDGE_MM or right > self.size[0] + EDGE_MM or bottom > self.size[1] + EDGE_MM:
                raise ValueError(
                    f"blocks[{index}]: expected a block inside the sheet of {self.size[0]:g} x {self.size[1]:g} mm, "
                    f"found one from {left:.2f}, {top:.2f} to {right:.2f}, {bottom:.2f} mm"
                )
        return self


@lru_cache(maxsize=1024)
def extent(block: MarksBlock | SolidBlock) -> tuple[float, float, float, float]:
    """Left, top, right and bottom of a block's ink in mm."""
    x, y = block.origin
    if isinstance(block, SolidBlock):
        return x, y, x + block.size[0], y + block.size[1]
    rows = -(-block.nozzles // block.columns)
    columns = min(block.columns, block.nozzles)
    xs = [x + c * block.column_pitch[0] + r * block.row_pitch[0] for c in (0, columns - 1) for r in (0, rows - 1)]
    ys = [y + c * block.column_pitch[1] + r * block.row_pitch[1] for c in (0, columns - 1) for r in (0, rows - 1)]
    half = block.mark[0] / 2, block.mark[1] / 2
    return min(xs) - half[0], min(ys) - half[1], max(xs) + half[0], max(ys) + half[1]
