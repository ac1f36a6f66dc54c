"""The book: what left each tank, where it went, what that cost; learnt from readings, looked ahead with."""

from dusky_sieve.core.ledger.entries import (
    Entry,
    Total,
    What,
    add_up,
    book_step,
    channels_touched,
    levels_now,
    pad_used,
)
from dusky_sieve.core.ledger.forecast import Forecast, TankForecast, forecast
from dusky_sieve.core.ledger.learn import PRINTS, Learnt, Lessons, Stretch, learn
from dusky_sieve.core.ledger.level import UNITS, Reading, Unit, in_ml, measured
from dusky_sieve.core.ledger.lines import Line, as_csv, moment, read_csv
from dusky_sieve.core.ledger.replay import Books, Numbered, Transfer, fills_to, replay, standing

__all__ = [
    "PRINTS", "UNITS", "Books", "Entry", "Forecast", "Learnt", "Lessons", "Line", "Numbered", "Reading", "Stretch", "TankForecast", "Total", "Transfer",
    "Unit", "What", "add_up", "as_csv", "book_step", "channels_touched", "fills_to", "forecast", "in_ml", "learn", "levels_now", "measured", "moment", "pad_used", "read_csv", "replay", "standing",
]  # fmt: skip
