"""What a person knows of a sheet before its layout is taught: channels and nozzle counts, in reading order."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from dusky_sieve.core.errors import parsed
from dusky_sieve.core.layout import Backing, Frozen
from dusky_sieve.core.layout.document import MAX_BLOCKS, MAX_BYTES, MAX_NOZZLES, Hex, Length, Offset, Word


class KnownBlock(Frozen):
    """One block as a person knows it. Whatever of its geometry is given is kept; the rest is found."""

    id: Word
    channel: Word
    head: int = Field(default=1, ge=1, le=64)
    ink: Hex
    backing: Backing = "light"
    kind: Literal["marks", "solid"] = "marks"
    nozzles: int | None = Field(default=None, ge=1, le=MAX_NOZZLES)
    first_nozzle: int = Field(default=1, ge=1, le=1_000_000)
    nozzle_step: int = Field(default=1, ge=1, le=MAX_NOZZLES)
    nozzle_pitch: Length | None = None
    columns: int | None = Field(default=None, ge=1, le=MAX_NOZZLES)
    column_pitch: tuple[Offset, Offset] | None = None
    row_pitch: tuple[Offset, Offset] | None = None
    mark: tuple[Length, Length] | None = None
    size: tuple[Length, Length] | None = None

    @model_validator(mode="after")
    def _marks_are_counted(self) -> Self:
        if self.kind == "marks":
            if self.nozzles is None:
                raise ValueError("nozzles: expected the number of marks of this block")
            if self.nozzle_pitch is None:
                raise ValueError("nozzle_pitch: expected the distance between neighbouring nozzles in mm")
        return self

    @property
    def count(self) -> int:
        """Marks of the block, 0 for a fill."""
        return self.nozzles or 0 if self.kind == "marks" else 0


class Spec(Frozen):
    """A sheet's blocks in reading order: rows from the top, each from the left."""

    name: Word
    blocks: Annotated[tuple[KnownBlock, ...], Field(min_length=1, max_length=MAX_BLOCKS)]

    @model_validator(mode="after")
    def _ids_differ(self) -> Self:
        seen: set[str] = set()
        for index, block in enumerate(self.blocks):
            if block.id in seen:
                raise ValueError(f"blocks[{index}].id: expected an id of its own, found a second {block.id!r}")
            seen.add(block.id)
        if not any(b.kind == "marks" for b in self.blocks):
            raise ValueError("blocks: expected at least one block of marks, for fills alone tell no nozzle")
        return self


def parse_spec(text: str | bytes, name: str = "spec") -> Spec:
    """A spec from its JSON text; UnusableInput names the field at fault and what was expected there."""
    return parsed(Spec, text, name, MAX_BYTES)
