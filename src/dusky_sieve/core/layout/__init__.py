"""The sheet's geometry: the layout document, mark centres, checks of the document."""

import json

from pydantic import ValidationError

from dusky_sieve.core.errors import UnusableInput, first_fault
from dusky_sieve.core.layout.document import (
    MAX_BYTES,
    Backing,
    Frozen,
    Layout,
    MarksBlock,
    SolidBlock,
    extent,
)
from dusky_sieve.core.layout.lattice import clear_height, clear_width, ink_rgb, lattice_middle, mark_centres

__all__ = ["Backing", "Frozen", "Layout", "MarksBlock", "SolidBlock", "clear_height", "clear_width", "extent", "ink_rgb", "lattice_middle", "mark_centres", "parse_layout"]  # fmt: skip


def parse_layout(text: str | bytes, name: str = "layout") -> Layout:
    """A layout from its JSON text; UnusableInput names the field at fault and what was expected there."""
    if len(text) > MAX_BYTES:
        raise UnusableInput(f"{name}: a layout file is at most 1 MB; this one has {len(text) / 1e6:.1f} MB.")
    try:
        return Layout.model_validate(json.loads(text))
    except ValidationError as error:
        raise UnusableInput(f"{name}: {first_fault(error)}.") from None
    except (ValueError, RecursionError) as error:
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else str(error)
        raise UnusableInput(f"{name}: not a JSON document ({reason}).") from None
