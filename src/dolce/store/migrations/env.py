"""Alembic's entry: runs the steps on the connection it is handed."""

from alembic import context

context.configure(connection=context.config.attributes["connection"], transaction_per_migration=False)
context.run_migrations()
