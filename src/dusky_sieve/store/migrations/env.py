"""Runs migrations on the connection handed over by `store.engine`."""

from alembic import context
from sqlmodel import SQLModel

from dusky_sieve.store import tables

assert tables  # the import fills the metadata
context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=SQLModel.metadata,
    transaction_per_migration=False,
)
context.run_migrations()
