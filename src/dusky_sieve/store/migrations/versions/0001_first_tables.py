"""Printers, photos, sheets, cases, events, the book, and forms already acted on."""

import sqlalchemy as sa
from alembic import op

revision = "0001"
down_revision = None


def _key() -> sa.Column:  # type: ignore[type-arg]
    return sa.Column("id", sa.Integer(), primary_key=True)


def _owner(name: str, table: str, nullable: bool = True) -> sa.Column:  # type: ignore[type-arg]
    return sa.Column(
        name, sa.Integer(), sa.ForeignKey(f"{table}.id", ondelete="RESTRICT"), nullable=nullable, index=True
    )


def _text(name: str, nullable: bool = False, **more: object) -> sa.Column:  # type: ignore[type-arg]
    return sa.Column(name, sa.String(), nullable=nullable, **more)  # type: ignore[arg-type]


def upgrade() -> None:
    op.create_table(
        "printer", _key(), _text("slug", unique=True), _text("name"), _text("about"), sa.Column("document", sa.Text(), nullable=False),
        sa.Column("layout", sa.Text(), nullable=False), sa.Column("inks", sa.Text(), nullable=False), _text("sheet_note"),
        sa.Column("position", sa.Integer(), nullable=False),
    )  # fmt: skip
    op.create_table(
        "photo", _key(), _owner("printer_id", "printer", False), sa.Column("digest", sa.String(64), nullable=False), _text("name"),
        _text("media"), sa.Column("size", sa.Integer(), nullable=False), _text("backing"), _text("arrived"),
        sa.UniqueConstraint("printer_id", "digest"),
    )  # fmt: skip
    op.create_table(
        "trouble", _key(), _owner("printer_id", "printer", False), sa.Column("number", sa.Integer(), nullable=False), _text("opened"),
        _text("closed", True), _text("outcome", True), sa.Column("start", sa.Text(), nullable=False),
    )  # fmt: skip
    op.create_table(
        "sheet", _key(), _owner("printer_id", "printer", False), _owner("case_id", "trouble"), _owner("photo_id", "photo"), _text("at", index=True),
        sa.Column("reading", sa.Text()), sa.Column("faults", sa.Text()), _text("why", True), _text("person"),
    )  # fmt: skip
    op.create_table(
        "event", _key(), _owner("printer_id", "printer", False), _owner("case_id", "trouble"), _text("kind"), _text("at", index=True),
        _text("started", True), _text("finished", True), _text("dropped", True), sa.Column("document", sa.Text(), nullable=False),
        _text("person"), sa.CheckConstraint("kind in ('step', 'level', 'note')"),
    )  # fmt: skip
    op.create_table(
        "entry", _key(), _owner("printer_id", "printer", False), _owner("case_id", "trouble"), _owner("event_id", "event"),
        sa.Column("document", sa.Text(), nullable=False),
    )  # fmt: skip
    op.create_table("done", sa.Column("token", sa.String(64), primary_key=True), _text("went_to"), _text("at"))
    for act in ("UPDATE", "DELETE"):
        op.execute(
            f"CREATE TRIGGER entry_no_{act.lower()} BEFORE {act} ON entry BEGIN SELECT RAISE(ABORT, 'the book is only added to'); END"
        )
