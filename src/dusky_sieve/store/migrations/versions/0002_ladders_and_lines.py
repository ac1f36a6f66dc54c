"""Ladders that people made; light lines counted on a sheet, and what somebody corrected on it."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "ladder", sa.Column("id", sa.String(60), primary_key=True), sa.Column("document", sa.Text(), nullable=False),
        sa.Column("at", sa.String(), nullable=False), sa.Column("person", sa.String(), nullable=False),
    )  # fmt: skip
    op.add_column("sheet", sa.Column("lines", sa.Text()))
    op.add_column("sheet", sa.Column("changes", sa.Text()))
