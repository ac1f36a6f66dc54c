"""The clock: what is due on a printer and when, and what standing idle costs it."""

from dusky_sieve.core.upkeep.idle import IdleRecord, Stand, idle_record
from dusky_sieve.core.upkeep.plan import Due, Log, Task, TaskFacts, TaskName, UpkeepTable, ahead, due, planned, sort_out

__all__ = [
    "Due", "IdleRecord", "Log", "Stand", "Task", "TaskFacts", "TaskName", "UpkeepTable", "ahead", "due", "idle_record", "planned", "sort_out",
]  # fmt: skip
