"""Alembic's entry: runs the migrations on the connection it is handed, inside that connection's one transaction."""

from alembic import context

from knollside.store.tables import Base

connection = context.config.attributes["connection"]
context.configure(connection=connection, target_metadata=Base.metadata, render_as_batch=True, transactional_ddl=True)
with context.begin_transaction():
    context.run_migrations()
