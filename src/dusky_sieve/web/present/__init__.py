"""What pages show, worked out from the store: frozen views that templates only lay out."""

from dusky_sieve.web.present.band import Band, band, room_aside, room_heading
from dusky_sieve.web.present.meaning import cause_lines, meaning
from dusky_sieve.web.present.odds import odds
from dusky_sieve.web.present.story import case_lines, sheet_lines, story
from dusky_sieve.web.present.table import light_table

__all__ = [
    "Band",
    "band",
    "case_lines",
    "cause_lines",
    "light_table",
    "meaning",
    "odds",
    "room_aside",
    "room_heading",
    "sheet_lines",
    "story",
]
