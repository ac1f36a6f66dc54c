"""The sheet's geometry: the layout document, mark centres, checks of the document."""

from dusky_sieve.core.errors import parsed
from dusky_sieve.core.layout.document import (
    MAX_BYTES,
    Backing,
    Frozen,
    Layout,
    MarksBlock,
    SolidBlock,
    extent,
)
from dusky_sieve.core.layout.lattice import (
    Clear,
    boxes_besides,
    cells_of,
    clear_height,
    clear_heights,
    clear_of,
    clear_width,
    grey_ink,
    in_light,
    ink_codes,
    ink_rgb,
    lattice_middle,
    lattice_steps,
    level_with,
    mark_centres,
    marks_over,
    near_by,
    on_boxes,
    overlaid,
)

__all__ = ["Backing", "Clear", "Frozen", "Layout", "MarksBlock", "SolidBlock", "boxes_besides", "cells_of", "clear_height", "clear_heights", "clear_of", "clear_width", "extent", "grey_ink", "in_light", "ink_codes", "ink_rgb", "lattice_middle", "lattice_steps", "level_with", "mark_centres", "marks_over", "near_by", "on_boxes", "overlaid", "parse_layout"]  # fmt: skip


def parse_layout(text: str | bytes, name: str = "layout") -> Layout:
    """A layout from its JSON text; UnusableInput names the field at fault and what was expected there."""
    return parsed(Layout, text, name, MAX_BYTES)
