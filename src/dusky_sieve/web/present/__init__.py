"""What pages show, worked out from the store: frozen views that templates only lay out."""

from dusky_sieve.web.present.arriving import (
    backings,
    before_printing,
    empty_meshes,
    missing_backings,
    phone_view,
    waiting_sheets,
)
from dusky_sieve.web.present.band import Band, band, room_aside, room_heading
from dusky_sieve.web.present.calendar import calendar
from dusky_sieve.web.present.ledger import PURPOSE_WORDS, ledger
from dusky_sieve.web.present.meaning import cause_lines, meaning
from dusky_sieve.web.present.odds import odds
from dusky_sieve.web.present.story import case_lines, sheet_lines, story
from dusky_sieve.web.present.table import Looking, light_table

__all__ = [
    "PURPOSE_WORDS",
    "Band",
    "Looking",
    "backings",
    "band",
    "before_printing",
    "calendar",
    "case_lines",
    "cause_lines",
    "empty_meshes",
    "ledger",
    "light_table",
    "meaning",
    "missing_backings",
    "odds",
    "phone_view",
    "room_aside",
    "room_heading",
    "sheet_lines",
    "story",
    "waiting_sheets",
]
