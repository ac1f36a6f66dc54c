"""What can go wrong, and in whose words.

    DuskySieveError            never raised itself
    |- UnusableInput           a file, a document or a request cannot be used (exit 2, HTTP 422)
    |  |- UnknownThing         what was named does not exist (exit 2, HTTP 404)
    |  `- TooLarge             beyond a limit that protects the machine (exit 2, HTTP 413)
    |- OutOfTurn               fine in itself, but not now (exit 2, HTTP 409)
    `- SheetNotFound           the photo is fine, the sheet was not found on it (exit 3, HTTP 422)

Every message is one sentence or two: what is wrong, where, what to do. `cli` and `web` have one handler each.
"""

import json
from typing import TypeVar

from pydantic import BaseModel, ValidationError

Document = TypeVar("Document", bound=BaseModel)


class DuskySieveError(Exception):
    """Base of everything the product says itself; the text is fit to be shown to a person."""


class UnusableInput(DuskySieveError):
    """A file, document or request that cannot be used as it is."""


class UnknownThing(UnusableInput):
    """A printer, sheet, case or step that is not there."""


class TooLarge(UnusableInput):
    """Larger than what is accepted."""


class OutOfTurn(DuskySieveError):
    """A step that does not fit what happened before, such as finishing one that was never started."""


class SheetNotFound(DuskySieveError):
    """No sheet of the given layout was found on the photo, or the photo is too poor to judge."""


class TwoWaysRound(SheetNotFound):
    """The sheet was found, and lies as well the other way round, or a block further."""


def first_fault(error: ValidationError) -> str:
    """The first fault of a document as `blocks[2].columns: what was expected, found 0`."""
    fault = error.errors(include_url=False)[0]
    path = ""
    for part in fault["loc"]:
        if isinstance(part, int):
            path += f"[{part}]"
        elif part not in (
            "marks",
            "solid",
        ):  # the tags of the two kinds of block are no field of the document
            path += f".{part}" if path else str(part)
    message = fault["msg"].removeprefix("Value error, ")
    if fault["type"] == "value_error" and not path:
        return message
    found = fault.get("input")
    shown = f", found {found!r}" if isinstance(found, int | float | str | bool) and len(repr(found)) < 60 else ""
    return f"{path or 'document'}: {message[:1].lower()}{message[1:]}{shown}"


def parsed(model: type[Document], text: str | bytes, name: str, limit: int | None = None) -> Document:
    """A document from its JSON text. UnusableInput names the field at fault and what was expected there, in one line."""
    if limit is not None and len(text) > limit:
        raise UnusableInput(f"{name}: at most {limit / 1e6:g} MB are read; this has {len(text) / 1e6:.1f} MB.")
    try:
        return model.model_validate(json.loads(text))
    except ValidationError as error:
        raise UnusableInput(" ".join(f"{name}: {first_fault(error)}.".split())) from None
    except (ValueError, RecursionError) as error:
        reason = "it is nested too deeply" if isinstance(error, RecursionError) else " ".join(str(error).split())
        raise UnusableInput(f"{name}: not a JSON document ({reason}).") from None
