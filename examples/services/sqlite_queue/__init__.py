"""Jobs in a table of SQLite with SQLAlchemy."""
