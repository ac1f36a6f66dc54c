"""Phones paired with a printer for a short time; further photos of a sheet; what a room does the same way each time."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "phone", sa.Column("digest", sa.String(64), primary_key=True), sa.Column("until", sa.String(), nullable=False),
        sa.Column("printer_id", sa.Integer(), sa.ForeignKey("printer.id", ondelete="RESTRICT"), nullable=False),
        sa.Column("sheet_id", sa.Integer(), sa.ForeignKey("sheet.id", ondelete="RESTRICT")),
        sa.Column("state", sa.String(), nullable=False),
    )  # fmt: skip
    op.create_index("ix_phone_printer_id", "phone", ["printer_id"])
    op.create_index("ix_phone_sheet_id", "phone", ["sheet_id"])
    op.add_column("sheet", sa.Column("more_photos", sa.Text()))
    op.add_column("printer", sa.Column("habits", sa.Text(), nullable=False, server_default="{}"))
