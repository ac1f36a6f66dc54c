"""One function per thing a person does: load, call the core, save. Time comes in as `now`."""

from dusky_sieve.services.cases import (
    FACTS,
    advice_for,
    case_document,
    close_case,
    cost_so_far,
    find_case,
    find_printer,
    find_sheet,
    open_case_of,
    printer_now,
    reopen_case,
    step_record,
    step_under_way,
    tell,
    waiting,
)
from dusky_sieve.services.ladders import all_ladders, keep_ladder, ladder_of, set_rules
from dusky_sieve.services.sheets import Arrival, accept_sheet, faults_of_reading, take_photo
from dusky_sieve.services.steps import drop_step, finish_step, level_read, start_step, step_was_done

__all__ = [
    "FACTS", "Arrival", "accept_sheet", "advice_for", "all_ladders", "case_document", "close_case", "cost_so_far", "drop_step", "faults_of_reading",
    "find_case", "find_printer", "find_sheet", "finish_step", "keep_ladder", "ladder_of", "level_read", "open_case_of", "printer_now",
    "reopen_case", "set_rules", "start_step", "step_record", "step_under_way", "step_was_done", "take_photo", "tell", "waiting",
]  # fmt: skip
