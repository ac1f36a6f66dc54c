"""The book's lines in columns, readings and fills among them; faults counted on a sheet; upkeep; secrets of feeds."""

import json
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa
from alembic import op

revision = "0004"
down_revision = "0003"


def upgrade() -> None:
    for act in ("update", "delete"):
        op.execute(f"DROP TRIGGER entry_no_{act}")
    for name, kind, usual in (("what", sa.String(), "step"), ("at", sa.String(), ""), ("channel", sa.String(), "")):
        op.add_column("entry", sa.Column(name, kind, nullable=False, server_default=usual))
    for name in ("ink_ml", "waste_ml", "cost"):
        op.add_column("entry", sa.Column(name, sa.Float(), nullable=False, server_default="0"))
    op.add_column("entry", sa.Column("replaces", sa.Integer()))
    op.add_column("entry", sa.Column("person", sa.String(), nullable=False, server_default=""))
    op.add_column("sheet", sa.Column("bad", sa.Integer()))
    op.create_table(
        "upkeep", sa.Column("id", sa.Integer(), primary_key=True), sa.Column("task", sa.String(), nullable=False),
        sa.Column("printer_id", sa.Integer(), sa.ForeignKey("printer.id", ondelete="RESTRICT"), nullable=False),
        sa.Column("at", sa.String(), nullable=False), sa.Column("document", sa.Text(), nullable=False), sa.Column("person", sa.String(), nullable=False),
    )  # fmt: skip
    op.create_table("secret", sa.Column("name", sa.String(40), primary_key=True), sa.Column("value", sa.String(), nullable=False))  # fmt: skip
    connection = op.get_bind()
    op.execute(
        "UPDATE entry SET what = coalesce(json_extract(document, '$.what'), 'step'), channel = json_extract(document, '$.channel'), "
        "at = strftime('%Y-%m-%dT%H:%M:%S+00:00', json_extract(document, '$.at')), ink_ml = json_extract(document, '$.ink_ml'), "
        "waste_ml = json_extract(document, '$.waste_ml'), cost = json_extract(document, '$.cost')"
    )
    for values in _levels(connection):
        connection.execute(
            sa.text(
                "INSERT INTO entry (printer_id, case_id, event_id, document, what, at, channel, ink_ml) "
                "VALUES (:printer, :case, :event, :document, 'level', :at, :channel, :ml)"
            ),
            values,
        )
    for key, faults in connection.execute(sa.text("SELECT id, faults FROM sheet WHERE faults IS NOT NULL")).all():
        connection.execute(sa.text("UPDATE sheet SET bad = :bad WHERE id = :id"), {"id": key, "bad": _bad(faults)})
    for name, columns in (("ix_entry_balance", ["printer_id", "channel", "at"]), ("ix_entry_replaces", ["replaces"])):
        op.create_index(name, "entry", columns)
    op.create_index("ix_sheet_printer_at", "sheet", ["printer_id", "at"])
    op.create_index("ix_event_printer_at", "event", ["printer_id", "at"])
    op.create_index("ix_entry_waste", "entry", ["printer_id", "at", "waste_ml"], sqlite_where=sa.text("waste_ml > 0"))
    op.create_index("ix_entry_case", "entry", ["case_id", "what", "ink_ml", "waste_ml", "cost"], sqlite_where=sa.text("case_id IS NOT NULL"))  # fmt: skip
    op.create_index("ix_entry_pad", "entry", ["printer_id", "at"], sqlite_where=sa.text("what = 'pad'"))
    op.create_index("ix_upkeep_printer_id", "upkeep", ["printer_id"])
    _stamps()
    for act in ("UPDATE", "DELETE"):
        op.execute(
            f"CREATE TRIGGER entry_no_{act.lower()} BEFORE {act} ON entry BEGIN SELECT RAISE(ABORT, 'the book is only added to'); END"
        )


def _stamps() -> None:
    """A number for each printer that every change of what belongs to it moves on, whoever makes the change."""
    op.create_table("stamp", sa.Column("printer_id", sa.Integer(), primary_key=True), sa.Column("number", sa.Integer(), nullable=False))  # fmt: skip
    op.execute("INSERT INTO stamp SELECT id, 1 FROM printer")
    for table in ("photo", "trouble", "sheet", "event", "entry", "upkeep", "printer"):
        for act, row in (("INSERT", "NEW"), ("UPDATE", "NEW"), ("DELETE", "OLD")):
            whose = f"{row}.id" if table == "printer" else f"{row}.printer_id"
            op.execute(
                f"CREATE TRIGGER stamp_{table}_{act.lower()} AFTER {act} ON {table} BEGIN "
                f"INSERT INTO stamp VALUES ({whose}, 1) ON CONFLICT (printer_id) DO UPDATE SET number = number + 1; END"
            )
    for act in ("INSERT", "UPDATE", "DELETE"):
        op.execute(f"CREATE TRIGGER stamp_ladder_{act.lower()} AFTER {act} ON ladder BEGIN UPDATE stamp SET number = number + 1; END")  # fmt: skip


def _levels(connection: sa.Connection) -> Iterator[dict[str, Any]]:
    """Lines for the levels that were read off, and for tanks that were filled up, before the book held them."""
    found = connection.execute(
        sa.text(
            "SELECT event.id, event.printer_id, event.case_id, event.at, event.document, printer.document FROM event "
            "JOIN printer ON printer.id = event.printer_id WHERE event.kind = 'level' OR (event.kind = 'step' AND event.dropped IS NULL "
            "AND json_extract(event.document, '$.step') = 'refill' AND (event.started IS NULL OR event.finished IS NOT NULL))"
        )
    ).all()
    for key, printer, case, at, text, about in found:
        event = json.loads(text)
        full = {c["name"]: c.get("capacity_ml") for c in json.loads(about)["channels"]}
        read = event["kind"] == "level"
        levels = {event["channel"]: event["level_ml"]} if read else {n: full[n] for n in event.get("channels") or full}
        for channel, ml in levels.items():
            if ml is not None:
                entry = {
                    "at": at,
                    "what": "level",
                    "channel": channel,
                    "ink_ml": ml,
                    "said": "" if read else "filled up",
                }
                yield {"printer": printer, "case": case, "event": key, "document": json.dumps(entry), "at": at, "channel": channel, "ml": ml}  # fmt: skip


def _bad(faults: str) -> int:
    return sum(
        1 if f.get("all_missing") else len({*f.get("missing", ()), *f.get("weak", ()), *f.get("deflected", ())})
        for f in json.loads(faults).values()
    )
